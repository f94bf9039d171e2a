import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Paper from '@mui/material/Paper';
import TextField from '@mui/material/TextField';
import Typography from '@mui/material/Typography';
import { keepPreviousData, useInfiniteQuery, useQuery } from '@tanstack/react-query';
import { Link, useNavigate, useSearchParams } from 'react-router';
import { api, take } from '../api/client';
import { useKeys } from '../keys';
import { StayLine, useStays } from '../parts/Stays';
import { Rows } from '../parts/Rows';
import { RunLink } from '../parts/RunLink';
import { useTopic } from '../stream';
import { ago, count } from '../text';

const pageSize = 100;

/**
 * The jobs that wait, in the order in which they will be handed out, each with what it waits for; and who could do
 * them.
 */
export default function Queue() {
  useTopic({});
  const go = useNavigate();
  useKeys({ u: () => void go('/') });
  const [search, setSearch] = useSearchParams();
  const project = search.get('project') ?? '';
  const queue = useInfiniteQuery({
    queryKey: ['queue', project],
    initialPageParam: 0,
    placeholderData: keepPreviousData,
    refetchInterval: 5_000,
    queryFn: async ({ pageParam }) =>
      take(
        await api.GET('/api/v1/queue', {
          params: { query: { after: pageParam, limit: pageSize, ...(project && { project }) } },
        }),
      ),
    getNextPageParam: (page) => page.next,
  });
  const runners = useQuery({
    queryKey: ['runners'],
    refetchInterval: 15_000,
    queryFn: async () => take(await api.GET('/api/v1/runners', { params: { query: { limit: 500 } } })),
  });
  const stays = useStays({});
  const error = queue.error ?? runners.error;
  const first = queue.data?.pages[0];
  const jobs = queue.data?.pages.flatMap((p) => p.jobs) ?? [];
  return (
    <Box sx={{ p: 2, maxWidth: 1280, mx: 'auto' }}>
      <Box sx={{ display: 'flex', alignItems: 'center', gap: 2, mb: 1.5 }}>
        <Typography variant="h1">Queue</Typography>
        <Box sx={{ flexGrow: 1, color: 'text.secondary' }}>
          {first && `${count(first.total, 'job')} waiting, ${first.working} at work, room for ${first.slots}`}
        </Box>
        <TextField
          size="small"
          label="Project"
          value={project}
          onChange={(e) => setSearch(e.target.value ? { project: e.target.value } : {}, { replace: true })}
        />
      </Box>
      {error && (
        <Alert severity="error" variant="outlined">
          {error.message}
        </Alert>
      )}
      {first && jobs.length === 0 && (
        <Alert severity="success" variant="outlined">
          Nothing waits.
        </Alert>
      )}
      {jobs.length > 0 && (
        <Paper>
          <Rows
            label="Jobs that wait"
            heads={['Place', 'Project', 'Run', 'Pipeline', 'Job', 'Branch', 'Since', 'Waits for']}
            rows={jobs.map((j) => {
              const to = `/${encodeURIComponent(j.project)}/${j.run}?job=${encodeURIComponent(j.job)}`;
              return {
                key: `${j.project}/${j.run}/${j.job}`,
                to,
                cells: [
                  j.place,
                  j.project,
                  <RunLink key="r" to={to} run={j.run} />,
                  j.pipeline,
                  <b key="j">{j.job}</b>,
                  j.branch,
                  <Box key="s" component="span" sx={{ whiteSpace: 'nowrap' }}>
                    {ago(j.queued)}
                  </Box>,
                  j.why,
                ],
              };
            })}
          />
        </Paper>
      )}
      {queue.hasNextPage && (
        <Button sx={{ mt: 1 }} onClick={() => void queue.fetchNextPage()}>
          More
        </Button>
      )}
      <Typography variant="h2" sx={{ mt: 3, mb: 1 }}>
        Runners
      </Typography>
      {runners.data?.length === 0 && (
        <Alert severity="info" variant="outlined">
          No runner has asked for work yet. <code>piston runner</code> starts one.
        </Alert>
      )}
      <Box sx={{ display: 'grid', gap: 1 }}>
        {runners.data?.map((r) => (
          <Paper key={r.name} sx={{ px: 1.5, py: 1 }}>
            <Box sx={{ display: 'flex', gap: 2, alignItems: 'baseline', flexWrap: 'wrap' }}>
              <Box
                component={Link}
                to={`/-/runners/${encodeURIComponent(r.name)}`}
                sx={{ color: 'primary.main', fontWeight: 650 }}
              >
                {r.name}
              </Box>
              <span>{r.online ? `${r.busy} of ${r.slots} busy` : `away since ${ago(r.seen)}`}</span>
              <Box component="span" sx={{ color: 'text.secondary' }}>
                labels {r.labels.join(', ')}
              </Box>
            </Box>
            {stays.data
              ?.filter((s) => s.runner === r.name)
              .map((s) => (
                <StayLine key={`${s.project} ${s.run} ${s.job} ${s.attempt}`} of={s} named />
              ))}
            <Box sx={{ fontSize: 12, color: 'text.secondary' }}>
              {Object.entries(r.tools)
                .map(([name, version]) => `${name} ${version}`)
                .join(', ')}
            </Box>
          </Paper>
        ))}
      </Box>
    </Box>
  );
}
