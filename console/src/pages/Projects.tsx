import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Paper from '@mui/material/Paper';
import Typography from '@mui/material/Typography';
import { Link } from 'react-router';
import { api, take } from '../api/client';
import { useMe } from '../me';
import { Contains, More, useNamed } from '../paged';
import { AddProject } from '../parts/AddProject';
import { LatestRelease, Needs, SetBack, Strips } from '../parts/Glance';
import { useTopic } from '../stream';
import { mono } from '../theme';

/** All projects at a glance: is each fine, what is at work, what needs somebody. */
export function Projects() {
  useTopic({});
  const { administrator } = useMe();
  const projects = useNamed(
    ['overview', 'all'],
    async (query) => take(await api.GET('/api/v1/overview', { params: { query } })),
    (p) => p.project,
    20,
  );
  const { list } = projects;
  return (
    <Box sx={{ p: 2, maxWidth: 1280, mx: 'auto' }}>
      <Box sx={{ display: 'flex', alignItems: 'center', gap: 2, mb: 1.5, flexWrap: 'wrap' }}>
        <Typography variant="h1" sx={{ flexGrow: 1 }}>
          Projects
        </Typography>
        <Contains of={projects} />
        {administrator && <AddProject />}
      </Box>
      {projects.error && (
        <Alert severity="error" variant="outlined">
          {projects.error.message}
        </Alert>
      )}
      {projects.ready && list.length === 0 && (
        <Alert severity="info" variant="outlined">
          {projects.contains ? (
            'No project of that name.'
          ) : (
            <>
              No projects yet. <code>piston project add NAME REPOSITORY</code> registers one.
            </>
          )}
        </Alert>
      )}
      <Box sx={{ display: 'grid', gap: 1.5 }}>
        {list.map((p) => (
          <Paper key={p.project} component="section" aria-label={p.project} sx={{ p: 1.5 }}>
            <Box sx={{ display: 'flex', columnGap: 2, alignItems: 'baseline', flexWrap: 'wrap', mb: 1 }}>
              <Typography variant="h2" sx={{ fontSize: '1.05rem' }}>
                <Box component={Link} to={`/${encodeURIComponent(p.project)}`} sx={{ color: 'inherit' }}>
                  {p.project}
                </Box>
              </Typography>
              <Needs of={p} />
              <LatestRelease of={p} />
              {p.set_back && <SetBack />}
              <Box
                component="span"
                sx={{
                  fontFamily: mono,
                  fontSize: 12,
                  color: 'text.secondary',
                  ml: { md: 'auto' },
                  overflowWrap: 'anywhere',
                }}
              >
                {p.remote}
              </Box>
            </Box>
            {p.pipelines.length > 0 ? (
              <Strips of={p} most={1} />
            ) : (
              <Box sx={{ color: 'text.secondary' }}>
                No run yet: a push to a branch that a trigger names starts one.
              </Box>
            )}
          </Paper>
        ))}
      </Box>
      <More of={projects} />
    </Box>
  );
}
