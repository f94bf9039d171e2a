import Box from '@mui/material/Box';
import Typography from '@mui/material/Typography';
import { useQuery } from '@tanstack/react-query';
import { Link } from 'react-router';
import { api, take, type RunDetail, type RunTimes, type SlowerStep, type Stretch } from '../api/client';
import { span } from '../text';
import { orOf, shorter } from '../times';
import { Differences } from './Differences';
import { stateColour } from './StateMark';

const looks: Record<Stretch['kind'], string> = {
  tried: 'var(--mui-palette-state-bad)',
  waiting: 'transparent',
  preparing: 'var(--mui-palette-state-quiet)',
  step: 'var(--mui-palette-primary-main)',
  wrapping: 'var(--mui-palette-state-quiet)',
};

const words = { tried: 'tried before', waiting: 'waiting', preparing: 'preparing', wrapping: 'wrapping' } as const;

const word = (s: Stretch) => (s.kind === 'step' ? `${s.job} › ${s.step}` : `${s.job}, ${words[s.kind]}`);

/** What had to end before the next could begin, as one bar and in words. */
function Critical({ path }: { path: Stretch[] }) {
  const total = path.reduce((n, s) => n + s.took_ms, 0);
  const long = path.filter((s) => s.took_ms * 20 >= total);
  return (
    <>
      <Box aria-hidden sx={{ display: 'flex', height: 12, gap: '1px', my: 0.5 }}>
        {path.map((s) => (
          <Box
            key={`${s.job} ${s.kind} ${s.step} ${s.from_ms}`}
            title={`${word(s)}: ${span(s.took_ms)}`}
            sx={{
              flexGrow: s.took_ms,
              flexBasis: 0,
              minWidth: '1px',
              bgcolor: looks[s.kind],
              border: s.kind === 'waiting' ? '1px dashed' : 0,
              borderColor: 'text.secondary',
            }}
          />
        ))}
      </Box>
      <Box component="ol" sx={{ m: 0, pl: 2.5 }}>
        {long.map((s) => (
          <li key={`${s.job} ${s.kind} ${s.step} ${s.from_ms}`}>
            {word(s)}: {span(s.took_ms)}
          </li>
        ))}
      </Box>
    </>
  );
}

function Slower({ of, run }: { of: SlowerStep; run: RunDetail }) {
  const at = `/${encodeURIComponent(run.project)}`;
  return (
    <Box sx={{ mb: 1 }}>
      <Box sx={{ color: stateColour('timed-out'), fontWeight: 650 }}>
        {of.job} › {of.step} took {span(of.took_ms)}, usually {span(of.usual_ms)}
      </Box>
      {of.since_run === run.number ? (
        'For the first time. Different here:'
      ) : (
        <>
          Since{' '}
          <Box component={Link} to={`${at}/${of.since_run}`} sx={{ color: 'primary.main' }}>
            run {of.since_run}
          </Box>
          {orOf(of)}, {of.runs} runs now. Different there:
        </>
      )}
      <Differences of={of.since} />
    </Box>
  );
}

const nothing = (t: RunTimes) => t.critical.length === 0;

/** Where a run's time went, what would have made it shorter, what was slower than usual. */
export function RunTime({ run }: { run: RunDetail }) {
  const times = useQuery({
    queryKey: ['runtimes', run.project, run.number, run.state],
    queryFn: async () =>
      take(
        await api.GET('/api/v1/projects/{project}/runs/{number}/times', {
          params: { path: { project: run.project, number: run.number } },
        }),
      ),
  });
  const t = times.data;
  if (!t || nothing(t)) return null;
  return (
    <Box
      component="section"
      aria-label="Where the time went"
      sx={{ p: 1.5, borderTop: 1, borderColor: 'divider', fontSize: 12 }}
    >
      {t.slower.map((s) => (
        <Slower key={`${s.job} ${s.step}`} of={s} run={run} />
      ))}
      <Typography variant="h2">The longest way through</Typography>
      <Critical path={t.critical} />
      {t.shorter.length > 0 && (
        <>
          <Typography variant="h2" sx={{ mt: 1 }}>
            It would have been shorter
          </Typography>
          <Box component="ul" sx={{ m: 0, pl: 2.5 }}>
            {t.shorter.slice(0, 4).map((s) => (
              <li key={`${s.kind} ${s.job} ${s.step} ${s.other}`}>
                by <b>{span(s.saves_ms)}</b> {shorter(s)}
              </li>
            ))}
          </Box>
        </>
      )}
    </Box>
  );
}
