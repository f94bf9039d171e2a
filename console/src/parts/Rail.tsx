import Box from '@mui/material/Box';
import { Link } from 'react-router';
import { useMe } from '../me';
import { pathOf, projectRooms, roomAt } from '../rooms';

const groups = ['Now', 'Why', 'Out', 'Set up'] as const;

/** The rooms of a project, in groups: what happens, why, what goes out, how it is set up. */
export function Rail({ project, below }: { project: string; below: string | undefined }) {
  const { may } = useMe();
  const here = roomAt(below);
  return (
    <Box
      component="nav"
      aria-label={`Pages of ${project}`}
      sx={{
        width: 116,
        flexShrink: 0,
        overflowY: 'auto',
        display: { xs: 'none', md: 'block' },
        borderRight: 1,
        borderColor: 'divider',
        bgcolor: 'background.paper',
        py: 0.5,
        fontSize: 13,
      }}
    >
      {groups.map((g) => (
        <Box key={g} sx={{ mb: 1 }}>
          <Box sx={{ px: 1.5, py: 0.25, fontSize: 11, color: 'text.secondary' }} id={`rooms-${g}`}>
            {g}
          </Box>
          <Box component="ul" aria-labelledby={`rooms-${g}`} sx={{ m: 0, p: 0, listStyle: 'none' }}>
            {projectRooms
              .filter((r) => r.group === g && (r.role !== 'keeper' || may('keeper', project)))
              .map((r) => (
                <li key={r.path}>
                  <Box
                    component={Link}
                    to={pathOf(r, project)}
                    aria-current={r === here ? 'page' : undefined}
                    sx={{
                      display: 'block',
                      px: 1.5,
                      py: '3px',
                      minHeight: 24,
                      color: r === here ? 'primary.main' : 'inherit',
                      fontWeight: r === here ? 700 : 400,
                      textDecoration: 'none',
                      borderLeft: 3,
                      borderColor: r === here ? 'primary.main' : 'transparent',
                      '&:hover': { bgcolor: 'var(--mui-palette-soft)' },
                    }}
                  >
                    {r.name}
                  </Box>
                </li>
              ))}
          </Box>
        </Box>
      ))}
    </Box>
  );
}
