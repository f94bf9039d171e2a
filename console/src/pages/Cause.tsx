import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Paper from '@mui/material/Paper';
import Typography from '@mui/material/Typography';
import { useQuery } from '@tanstack/react-query';
import { Link, useNavigate, useParams } from 'react-router';
import { api, take, type KnownFailure } from '../api/client';
import { useKeys } from '../keys';
import { List } from '../parts/List';
import { Scrolled } from '../parts/Scrolled';
import { ago } from '../text';
import { mono } from '../theme';
import { useCauses } from './Causes';

/** Where a cause was seen in a project, and what ended it. */
function Seen({ list, project }: { list: KnownFailure[]; project: string }) {
  const run = (n: number) => (
    <Box component={Link} to={`/${encodeURIComponent(project)}/${n}`} sx={{ color: 'primary.main' }}>
      run {n}
    </Box>
  );
  if (list.length === 0) return <Box sx={{ color: 'text.secondary' }}>It was not seen in {project} yet.</Box>;
  return (
    <Scrolled>
      <List
        label={`Where it was seen in ${project}`}
        heads={['Runs', 'Said', 'Where', 'Seen last', 'Went away with']}
        rows={list.map((f) => ({
          key: `${f.job} ${f.step} ${f.said}`,
          cells: [
            `${f.times} ×`,
            <Box key="s" sx={{ fontFamily: mono, fontSize: 12, overflowWrap: 'anywhere' }}>
              {f.said}
            </Box>,
            `${f.job}${f.step ? ` › ${f.step}` : ''}`,
            <span key="l">
              {run(f.last_run)}, {ago(f.last)}
            </span>,
            f.gone && (
              <span key="g">
                {run(f.gone.run)}: {f.gone.subject}
              </span>
            ),
          ],
        }))}
      />
    </Scrolled>
  );
}

/** One cause of failures: what it is, what it means, what to do, and where it was seen. */
export default function CausePage() {
  const { project, name = '' } = useParams();
  const go = useNavigate();
  useKeys({ u: () => void go(project ? `/${encodeURIComponent(project)}/failures` : '/-/causes') });
  const causes = useCauses();
  const seen = useQuery({
    queryKey: ['failures', project, 'of', name],
    enabled: project !== undefined,
    queryFn: async () =>
      take(
        await api.GET('/api/v1/projects/{project}/failures', {
          params: { path: { project: project ?? '' }, query: { cause: name, limit: 50 } },
        }),
      ),
  });
  const cause = causes.data?.find((c) => c.name === name);
  const list = seen.data?.failures;
  const error = causes.error ?? seen.error;
  return (
    <Box sx={{ p: 2, maxWidth: 1000, mx: 'auto' }}>
      <Typography variant="h1" sx={{ mb: 1.5 }}>
        {cause?.title ?? list?.[0]?.title ?? name}
        <Box
          component="span"
          sx={{ fontFamily: mono, fontSize: 12, fontWeight: 400, color: 'text.secondary', ml: 1.5 }}
        >
          {name}
        </Box>
      </Typography>
      {error && (
        <Alert severity="error" variant="outlined" sx={{ mb: 1.5 }}>
          {error.message}
        </Alert>
      )}
      {cause && (
        <Paper component="section" aria-label="What it is" sx={{ p: 1.5, mb: 2 }}>
          <Box>{cause.means}</Box>
          <Box sx={{ mt: 1 }}>
            <Box component="span" sx={{ color: 'state.good', fontWeight: 650 }}>
              What to do:
            </Box>{' '}
            {cause.do}
          </Box>
          {cause.examples && cause.examples.length > 0 && (
            <Box sx={{ mt: 1 }}>
              <Box sx={{ color: 'text.secondary' }}>It is known by lines like these:</Box>
              {cause.examples.map((e) => (
                <Box key={e} sx={{ fontFamily: mono, fontSize: 12, overflowWrap: 'anywhere' }}>
                  {e}
                </Box>
              ))}
            </Box>
          )}
        </Paper>
      )}
      {causes.data && !cause && (
        <Box sx={{ mb: 2 }}>
          {project ? 'The project has described it in its file piston/causes.toml.' : 'No cause is called that.'}
        </Box>
      )}
      {project && list && <Seen list={list} project={project} />}
    </Box>
  );
}
