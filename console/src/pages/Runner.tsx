import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Paper from '@mui/material/Paper';
import Typography from '@mui/material/Typography';
import { useInfiniteQuery } from '@tanstack/react-query';
import { useParams } from 'react-router';
import { api, take, type State } from '../api/client';
import { Rows } from '../parts/Rows';
import { RunLink } from '../parts/RunLink';
import { Scrolled } from '../parts/Scrolled';
import { StateMark } from '../parts/StateMark';
import { StayLine, useStays } from '../parts/Stays';
import { ago, size, span } from '../text';

/** How much of something is taken, drawn and said. */
function Meter({ label, taken, text }: { label: string; taken: number; text: string }) {
  const full = Math.min(1, Math.max(0, taken));
  return (
    <Box sx={{ minWidth: 180, flexGrow: 1, maxWidth: 320 }}>
      <Box sx={{ display: 'flex', justifyContent: 'space-between', gap: 1, fontSize: 12 }}>
        <span>{label}</span>
        <span>{text}</span>
      </Box>
      <Box aria-hidden sx={{ height: 6, borderRadius: 1, bgcolor: 'var(--mui-palette-soft)', overflow: 'hidden' }}>
        <Box
          sx={{
            height: '100%',
            width: `${full * 100}%`,
            bgcolor: full > 0.9 ? 'state.bad' : 'var(--mui-palette-primary-main)',
          }}
        />
      </Box>
    </Box>
  );
}

/** A machine that executes jobs: what it is like, what stays on it, and what it did. */
export default function Runner() {
  const { name = '' } = useParams();
  const stays = useStays({ runner: name });
  const runner = useInfiniteQuery({
    queryKey: ['runner', name],
    refetchInterval: 5_000,
    initialPageParam: undefined as string | undefined,
    queryFn: async ({ pageParam }) =>
      take(
        await api.GET('/api/v1/runners/{name}', {
          params: { path: { name }, query: { limit: 50, ...(pageParam && { before: pageParam }) } },
        }),
      ),
    getNextPageParam: (page) => (page.did.length === 50 ? page.did.at(-1)?.claimed_at : undefined),
  });
  const r = runner.data?.pages[0];
  const did = runner.data?.pages.flatMap((p) => p.did) ?? [];
  const h = r?.host;
  return (
    <Box sx={{ p: 2, maxWidth: 1280, mx: 'auto' }}>
      <Box sx={{ display: 'flex', alignItems: 'baseline', flexWrap: 'wrap', columnGap: 2, mb: 1.5 }}>
        <Typography variant="h1">{name}</Typography>
        {r && (
          <Box sx={{ color: 'text.secondary' }}>
            {[
              r.online ? `${r.busy} of ${r.slots} slots at work` : `away since ${ago(r.seen)}`,
              r.held && `held by ${r.held_by ?? 'somebody'}: ${r.held}`,
              r.platform,
              `labels ${r.labels.join(', ')}`,
              `version ${r.version}`,
            ]
              .filter(Boolean)
              .join(', ')}
          </Box>
        )}
      </Box>
      {runner.error && (
        <Alert severity="error" variant="outlined">
          {runner.error.message}
        </Alert>
      )}
      {r && (
        <Paper component="section" aria-label="Its machine" sx={{ p: 1.5, mb: 1.5, display: 'grid', gap: 1 }}>
          {h && (
            <Box sx={{ display: 'flex', flexWrap: 'wrap', columnGap: 4, rowGap: 1 }}>
              <Meter
                label="Load"
                taken={h.load / Math.max(1, h.cpus)}
                text={`${h.load.toFixed(1)} on ${h.cpus} processors`}
              />
              <Meter
                label="Memory"
                taken={1 - h.memory_free / Math.max(1, h.memory)}
                text={`${size(h.memory_free)} free of ${size(h.memory)}`}
              />
              <Meter
                label="Disk"
                taken={1 - h.disk_free / Math.max(1, h.disk)}
                text={`${size(h.disk_free)} free of ${size(h.disk)}`}
              />
            </Box>
          )}
          <Box sx={{ fontSize: 12, color: 'text.secondary' }}>
            {Object.entries(r.tools)
              .map(([tool, version]) => `${tool} ${version}`)
              .join(', ')}
          </Box>
          {stays.data?.map((s) => (
            <StayLine key={`${s.project} ${s.run} ${s.job} ${s.attempt}`} of={s} named />
          ))}
        </Paper>
      )}
      {r && did.length === 0 && <Box sx={{ color: 'text.secondary' }}>It has done nothing that you may see.</Box>}
      {did.length > 0 && (
        <Scrolled>
          <Rows
            label="What it did"
            heads={['Given', 'Project', 'Run', 'Job', 'State', 'Took', 'Why']}
            rows={did.map((d) => {
              const to = `/${encodeURIComponent(d.project)}/${d.run}?job=${encodeURIComponent(d.job)}`;
              return {
                key: `${d.project} ${d.run} ${d.job} ${d.attempt}`,
                to,
                cells: [
                  <Box key="g" component="span" sx={{ whiteSpace: 'nowrap' }}>
                    {ago(d.claimed_at)}
                  </Box>,
                  d.project,
                  <RunLink key="r" to={to} run={d.run} />,
                  d.job,
                  <StateMark key="s" state={d.state as State} />,
                  <Box key="l" component="span" sx={{ whiteSpace: 'nowrap' }}>
                    {span(d.took_ms)}
                  </Box>,
                  d.reason,
                ],
              };
            })}
          />
        </Scrolled>
      )}
      {runner.hasNextPage && (
        <Button sx={{ mt: 1 }} onClick={() => void runner.fetchNextPage()}>
          More
        </Button>
      )}
    </Box>
  );
}
