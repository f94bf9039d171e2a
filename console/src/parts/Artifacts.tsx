import Box from '@mui/material/Box';
import Typography from '@mui/material/Typography';
import { artifactAddress, type RunDetail } from '../api/client';
import { size } from '../text';
import { mono } from '../theme';

/** What the run has kept, to download. */
export function Artifacts({ run }: { run: RunDetail }) {
  if (run.artifacts.length === 0) return null;
  return (
    <Box component="section" aria-label="Artifacts" sx={{ px: 1.5, py: 1 }}>
      <Typography variant="h2" sx={{ mb: 0.5 }}>
        Artifacts
      </Typography>
      {run.artifacts.map((a) => (
        <Box key={a.id} sx={{ mb: 0.75 }}>
          <Box
            component="a"
            href={artifactAddress(run.project, run.number, a.id)}
            download
            sx={{ color: 'primary.main', fontWeight: 550 }}
          >
            {a.path}
          </Box>
          <Box component="span" sx={{ color: 'text.secondary' }}>
            {' '}
            {size(a.size)}, by {a.job}
          </Box>
          <Box sx={{ fontFamily: mono, fontSize: 11, color: 'text.secondary', overflowWrap: 'anywhere' }}>
            sha256 {a.sha256}
          </Box>
        </Box>
      ))}
    </Box>
  );
}
