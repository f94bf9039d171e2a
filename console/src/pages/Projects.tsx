import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Paper from '@mui/material/Paper';
import Typography from '@mui/material/Typography';
import { Link } from 'react-router';
import { api, take } from '../api/client';
import { Contains, More, useNamed } from '../paged';
import { Rows } from '../parts/Rows';
import { built, RunOf } from '../parts/RunOf';
import { StateMark } from '../parts/StateMark';
import { useTopic } from '../stream';
import { ago } from '../text';
import { mono } from '../theme';

export function Projects() {
  useTopic({});
  const projects = useNamed(
    ['projects', 'all'],
    async (query) => take(await api.GET('/api/v1/projects', { params: { query } })),
    (p) => p.name,
    50,
  );
  const { list } = projects;
  return (
    <Box sx={{ p: 2, maxWidth: 1280, mx: 'auto' }}>
      <Box sx={{ display: 'flex', alignItems: 'center', gap: 2, mb: 1.5 }}>
        <Typography variant="h1" sx={{ flexGrow: 1 }}>
          Projects
        </Typography>
        <Contains of={projects} />
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
      {list.length > 0 && (
        <Paper>
          <Rows
            label="Projects"
            heads={['Project', 'Latest', 'Run', 'Of', 'Build', 'When', 'Repository']}
            rows={list.map((p) => {
              const r = p.latest;
              const to = `/${encodeURIComponent(p.name)}`;
              return {
                key: p.name,
                to,
                cells: [
                  <Box
                    key="n"
                    component={Link}
                    to={to}
                    onClick={(e) => e.stopPropagation()}
                    sx={{ fontWeight: 650, color: 'inherit' }}
                  >
                    {p.name}
                  </Box>,
                  r && <StateMark state={r.state} />,
                  r && (
                    <Box
                      component={Link}
                      to={`${to}/${r.number}`}
                      onClick={(e) => e.stopPropagation()}
                      sx={{ color: 'primary.main', whiteSpace: 'nowrap' }}
                    >
                      run {r.number}
                    </Box>
                  ),
                  r && <RunOf run={r} />,
                  r && built(r),
                  r && ago(r.queued),
                  <Box
                    key="r"
                    component="span"
                    sx={{ fontFamily: mono, fontSize: 12, color: 'text.secondary', overflowWrap: 'anywhere' }}
                  >
                    {p.remote}
                  </Box>,
                ],
              };
            })}
          />
        </Paper>
      )}
      <More of={projects} />
    </Box>
  );
}
