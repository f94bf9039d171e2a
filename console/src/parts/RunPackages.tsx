import Box from '@mui/material/Box';
import Typography from '@mui/material/Typography';
import { useQuery } from '@tanstack/react-query';
import { Link } from 'react-router';
import { api, take, type RunDetail } from '../api/client';
import { size } from '../text';
import { Says } from './Says';

/** The packages that the run has held against the checklist, and what that says. */
export function RunPackages({ run }: { run: RunDetail }) {
  const { data } = useQuery({
    queryKey: ['packages', run.project, 'run', run.number, run.state],
    queryFn: async () =>
      take(
        await api.GET('/api/v1/projects/{project}/packages', {
          params: { path: { project: run.project }, query: { run: run.number, limit: 50 } },
        }),
      ),
  });
  if (!data || data.packages.length === 0) return null;
  return (
    <Box component="section" aria-label="Packages" sx={{ px: 1.5, py: 1 }}>
      <Typography variant="h2" sx={{ mb: 0.5 }}>
        Packages
      </Typography>
      {data.packages.map((p) => (
        <Box key={p.id} sx={{ display: 'flex', gap: 1, flexWrap: 'wrap', mb: 0.5 }}>
          <Box
            component={Link}
            to={`/${encodeURIComponent(run.project)}/packages/${p.id}`}
            sx={{ color: 'primary.main', fontWeight: 550 }}
          >
            {p.file.split('/').pop()}
          </Box>
          <Box sx={{ color: 'text.secondary' }}>{size(p.size)}</Box>
          <Says of={p} />
        </Box>
      ))}
    </Box>
  );
}
