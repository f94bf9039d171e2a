import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import MenuItem from '@mui/material/MenuItem';
import Paper from '@mui/material/Paper';
import TextField from '@mui/material/TextField';
import Typography from '@mui/material/Typography';
import { keepPreviousData, useInfiniteQuery, useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useNavigate, useParams, useSearchParams } from 'react-router';
import { Link } from 'react-router';
import { api, take, type Run } from '../api/client';
import { useKeys } from '../keys';
import { useMe } from '../me';
import { LatestRelease, Needs, SetBack, Strips } from '../parts/Glance';
import { Rows } from '../parts/Rows';
import { built, RunOf } from '../parts/RunOf';
import { StartDialog } from '../parts/StartDialog';
import { StateMark, stateColour } from '../parts/StateMark';
import { useTopic } from '../stream';
import { ago, span } from '../text';
import { Scrolled } from '../parts/Scrolled';

const states = ['queued', 'running', 'passed', 'failed', 'cancelled', 'timed-out'] as const;

/** How long a run took, with a bar to compare it with the others on the page. */
function Took({ run, longest }: { run: Run; longest: number }) {
  if (!run.finished) return null;
  const ms = Date.parse(run.finished) - Date.parse(run.queued);
  return (
    <Box sx={{ width: 96 }}>
      <Box component="span" sx={{ fontVariantNumeric: 'tabular-nums' }}>
        {span(ms)}
      </Box>
      <Box
        aria-hidden
        sx={{
          height: 3,
          borderRadius: 1,
          bgcolor: stateColour(run.state),
          opacity: 0.6,
          width: `${Math.max(2, (100 * ms) / longest)}%`,
        }}
      />
    </Box>
  );
}

const useProject = (project: string) =>
  useQuery({
    queryKey: ['projects', project],
    queryFn: async () => take(await api.GET('/api/v1/projects/{project}', { params: { path: { project } } })),
  });

/** Holds a project's jobs or lets them go, and starts pipelines. */
function Standing({ project }: { project: string }) {
  const queries = useQueryClient();
  const { may } = useMe();
  const about = useProject(project);
  const pipelines = useQuery({
    queryKey: ['pipelines', project, ''],
    queryFn: async () =>
      take(
        await api.GET('/api/v1/projects/{project}/pipelines', { params: { path: { project }, query: { ref: '' } } }),
      ),
  });
  const hold = useMutation({
    mutationFn: async (reason: string) =>
      take(await api.PUT('/api/v1/projects/{project}/hold', { params: { path: { project } }, body: { reason } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ['projects'] }),
  });
  return (
    <>
      {about.data && may('keeper', project) && (
        <Button
          variant="outlined"
          disabled={hold.isPending}
          onClick={() => hold.mutate(about.data.held ? '' : 'held in the console')}
        >
          {about.data.held ? 'Resume' : 'Hold'}
        </Button>
      )}
      <StartDialog project={project} pipelines={pipelines.data?.pipelines ?? []} at="" />
    </>
  );
}

/** Is it fine, what is at work, what needs somebody. */
function AtAGlance({ project }: { project: string }) {
  const of = useQuery({
    queryKey: ['overview', project],
    queryFn: async () => take(await api.GET('/api/v1/projects/{project}/overview', { params: { path: { project } } })),
  }).data;
  if (!of || of.pipelines.length === 0) return null;
  return (
    <Paper component="section" aria-label="At a glance" sx={{ p: 1.5, mb: 1.5 }}>
      <Box sx={{ display: 'flex', columnGap: 2, alignItems: 'baseline', flexWrap: 'wrap', mb: 1 }}>
        <Needs of={of} />
        <LatestRelease of={of} />
        {of.set_back && <SetBack />}
      </Box>
      <Strips of={of} />
    </Paper>
  );
}

/** What keeps a project from building, if anything does. */
function Trouble({ project }: { project: string }) {
  const p = useProject(project).data;
  return (
    <>
      {p?.held && (
        <Alert severity="warning" variant="outlined" sx={{ mb: 1.5 }}>
          Held by {p.held_by}: {p.held}. Jobs that are queued wait.
        </Alert>
      )}
      {p?.trouble && (
        <Alert severity="error" variant="outlined" sx={{ mb: 1.5 }}>
          A push is not built: {p.trouble}{' '}
          <Link to={`/${encodeURIComponent(project)}/pushes?state=set-aside`}>All pushes</Link>
        </Alert>
      )}
    </>
  );
}

export function Runs() {
  const { project = '' } = useParams();
  const [search, setSearch] = useSearchParams();
  const go = useNavigate();
  useTopic({ project });
  useKeys({ u: () => void go('/') });
  const query = {
    state: search.get('state') ?? '',
    branch: search.get('branch') ?? '',
    pipeline: search.get('pipeline') ?? '',
  };
  const runs = useInfiniteQuery({
    queryKey: ['runs', project, query],
    initialPageParam: 0,
    placeholderData: keepPreviousData,
    queryFn: async ({ pageParam }) =>
      take(
        await api.GET('/api/v1/projects/{project}/runs', {
          params: {
            path: { project },
            query: {
              before: pageParam,
              limit: 30,
              ...(query.branch && { branch: query.branch }),
              ...(query.pipeline && { pipeline: query.pipeline }),
              ...(query.state && { state: query.state as Run['state'] }),
            },
          },
        }),
      ),
    getNextPageParam: (page) => page.next,
  });
  const list = runs.data?.pages.flatMap((p) => p.runs) ?? [];
  const longest = Math.max(1, ...list.map((r) => (r.finished ? Date.parse(r.finished) - Date.parse(r.queued) : 0)));
  const set = (name: string) => (e: { target: { value: string } }) =>
    setSearch(
      (s) => {
        if (e.target.value) s.set(name, e.target.value);
        else s.delete(name);
        return s;
      },
      { replace: true },
    );
  return (
    <Box sx={{ p: 2, maxWidth: 1280, mx: 'auto' }}>
      <Box sx={{ display: 'flex', alignItems: 'center', gap: 1.5, mb: 1.5, flexWrap: 'wrap' }}>
        <Typography variant="h1" sx={{ flexGrow: 1 }}>
          {project}
        </Typography>
        <TextField select size="small" label="State" value={query.state} onChange={set('state')} sx={{ width: 130 }}>
          <MenuItem value="">any</MenuItem>
          {states.map((s) => (
            <MenuItem key={s} value={s}>
              {s}
            </MenuItem>
          ))}
        </TextField>
        <TextField size="small" label="Branch" value={query.branch} onChange={set('branch')} sx={{ width: 180 }} />
        <TextField
          size="small"
          label="Pipeline"
          value={query.pipeline}
          onChange={set('pipeline')}
          sx={{ width: 130 }}
        />
        <Standing project={project} />
      </Box>
      <Trouble project={project} />
      {!query.state && !query.branch && !query.pipeline && <AtAGlance project={project} />}
      {runs.error && (
        <Alert severity="error" variant="outlined">
          {runs.error.message}
        </Alert>
      )}
      {runs.data && list.length === 0 && (
        <Alert severity="info" variant="outlined">
          No such runs. A push to a branch that a pipeline's trigger names starts one.
        </Alert>
      )}
      {list.length > 0 && (
        <Scrolled>
          <Rows
            label={`Runs of ${project}`}
            heads={['Run', 'State', 'Pipeline', 'Of', 'Build', 'Took', 'When', 'What']}
            rows={list.map((r) => {
              const to = `/${encodeURIComponent(project)}/${r.number}`;
              return {
                key: String(r.number),
                to,
                cells: [
                  <Box
                    key="n"
                    component={Link}
                    to={to}
                    onClick={(e) => e.stopPropagation()}
                    sx={{ fontWeight: 650, color: 'inherit' }}
                  >
                    {r.number}
                  </Box>,
                  <StateMark key="s" state={r.state} />,
                  r.pipeline,
                  <RunOf key="o" run={r} />,
                  built(r),
                  <Took key="t" run={r} longest={longest} />,
                  <Box key="w" component="span" sx={{ whiteSpace: 'nowrap' }}>
                    {ago(r.queued)}
                  </Box>,
                  <Box key="c">
                    <Box>{r.subject}</Box>
                    {r.reason && !r.failed_at && r.finished && r.state !== 'passed' && (
                      <Box sx={{ color: 'text.secondary', fontSize: 12 }}>{r.reason}</Box>
                    )}
                    {r.failed_at && <Box sx={{ color: stateColour(r.state), fontSize: 12 }}>at {r.failed_at}</Box>}
                  </Box>,
                ],
              };
            })}
          />
        </Scrolled>
      )}
      {runs.hasNextPage && (
        <Button sx={{ mt: 1 }} onClick={() => void runs.fetchNextPage()}>
          Older runs
        </Button>
      )}
    </Box>
  );
}
