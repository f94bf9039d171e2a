import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import MenuItem from '@mui/material/MenuItem';
import Paper from '@mui/material/Paper';
import TextField from '@mui/material/TextField';
import Typography from '@mui/material/Typography';
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { Link, useNavigate, useParams, useSearchParams } from 'react-router';
import { api, take, type TimedChange, type Times } from '../api/client';
import { useKeys } from '../keys';
import { Stacked } from '../parts/Charts';
import { SetBack } from '../parts/Glance';
import { List } from '../parts/List';
import { stateColour } from '../parts/StateMark';
import { StepHistory } from '../parts/StepHistory';
import { count, span } from '../text';
import { changed, marks, parts, told } from '../times';
import { Scrolled } from '../parts/Scrolled';

/** The changes of a step's time that are told, one below the other. */
export function Changed({ list }: { list: TimedChange[] | undefined }) {
  return told(list ?? []).map((c) => (
    <Box
      key={c.run}
      sx={{
        color: stateColour(c.now_ms > c.before_ms ? 'timed-out' : 'passed'),
        whiteSpace: { xs: 'nowrap', md: 'normal' },
      }}
    >
      {changed(c)}
    </Box>
  ));
}

function Pictures({ of, open }: { of: Times; open: (run: number) => void }) {
  const runs = of.runs.map((r) => r.run);
  const last = of.runs.at(-1);
  const hits = of.runs.reduce((n, r) => n + r.hits, 0);
  const misses = of.runs.reduce((n, r) => n + r.misses, 0);
  return (
    <Paper component="section" aria-label="Where the time went" sx={{ p: 1.5, mb: 1.5 }}>
      <Box sx={{ display: 'flex', flexWrap: 'wrap', columnGap: 3, mb: 1 }}>
        <span>
          {count(of.runs.length, 'run')}, {runs[0]} to {last?.run}; the last took {span(last?.total_ms ?? 0)} by the
          clock
        </span>
        {hits + misses > 0 && (
          <span>
            caches found {hits} of {hits + misses} times
          </span>
        )}
        {of.set_back && <SetBack />}
      </Box>
      <Typography variant="h2">Machines at work</Typography>
      <Stacked
        label="Machines at work, by step, for each run"
        runs={runs}
        parts={parts(of)}
        marks={marks(of)}
        height={260}
        open={open}
      />
      <Typography variant="h2">Jobs waiting for a machine</Typography>
      <Stacked
        label="Jobs waiting for a machine, for each run"
        runs={runs}
        parts={[{ label: 'waiting', data: of.runs.map((r) => r.waited_ms) }]}
        height={110}
        open={open}
      />
    </Paper>
  );
}

/** Where the time of a pipeline's runs goes, and since when a step takes longer. */
export default function Time() {
  const { project = '' } = useParams();
  const go = useNavigate();
  const [search, setSearch] = useSearchParams();
  const of = `/${encodeURIComponent(project)}`;
  useKeys({ u: () => void go(of) });
  const pipeline = search.get('pipeline') ?? '';
  const branch = search.get('branch') ?? '';
  const times = useQuery({
    queryKey: ['times', project, pipeline, branch],
    placeholderData: keepPreviousData,
    queryFn: async () =>
      take(
        await api.GET('/api/v1/projects/{project}/times', {
          params: { path: { project }, query: { ...(pipeline && { pipeline }), ...(branch && { branch }) } },
        }),
      ),
  });
  const t = times.data;
  const set = (name: string, value: string) =>
    setSearch(
      (s) => {
        if (value) s.set(name, value);
        else s.delete(name);
        s.delete('step');
        return s;
      },
      { replace: true },
    );
  const chosen = search.get('step');
  const step = t?.steps.find((s) => `${s.job}/${s.step}` === chosen);
  const stepTo = (s: { job: string; step: string }) => {
    const to = new URLSearchParams(search);
    to.set('step', `${s.job}/${s.step}`);
    return `?${to.toString()}#step`;
  };
  return (
    <Box sx={{ p: 2, maxWidth: 1280, mx: 'auto' }}>
      <Box sx={{ display: 'flex', alignItems: 'center', gap: 1.5, mb: 1.5, flexWrap: 'wrap' }}>
        <Typography variant="h1" sx={{ flexGrow: 1 }}>
          Time
        </Typography>
        {t && t.pipelines.length > 0 && (
          <TextField
            select
            size="small"
            label="Pipeline"
            value={t.pipeline}
            onChange={(e) => set('pipeline', e.target.value)}
            sx={{ minWidth: 140 }}
          >
            {t.pipelines.map((p) => (
              <MenuItem key={p} value={p}>
                {p}
              </MenuItem>
            ))}
          </TextField>
        )}
        <TextField
          size="small"
          label="Branch"
          value={branch}
          onChange={(e) => set('branch', e.target.value.trim())}
          slotProps={{ inputLabel: { shrink: true } }}
          placeholder="all"
        />
      </Box>
      {times.error && (
        <Alert severity="error" variant="outlined">
          {times.error.message}
        </Alert>
      )}
      {t && t.runs.length === 0 && (
        <Alert severity="info" variant="outlined">
          No run of it has a history yet: that is written when a job ends.
        </Alert>
      )}
      {t && t.runs.length > 0 && (
        <>
          {step && (
            <StepHistory
              project={project}
              pipeline={t.pipeline}
              branch={branch}
              step={step}
              close={() => set('step', '')}
            />
          )}
          <Pictures of={t} open={(run) => void go(`${of}/${run}`)} />
          <Scrolled>
            <List
              label="Steps, those that take most first"
              heads={['Step', 'Machine', 'Median', 'Half between', 'Most', 'Runs', 'Changed']}
              rows={t.steps.map((s) => ({
                key: `${s.job}/${s.step}/${s.machine}`,
                cells: [
                  <Box
                    key="s"
                    component={Link}
                    to={stepTo(s)}
                    sx={{ color: 'primary.main', fontWeight: s === step ? 700 : 400 }}
                  >
                    {s.job} › {s.step}
                  </Box>,
                  <Box key="m" component="span" sx={{ color: 'text.secondary', whiteSpace: 'nowrap' }}>
                    {s.machine}
                  </Box>,
                  span(s.median_ms),
                  <Box key="h" component="span" sx={{ whiteSpace: 'nowrap' }}>
                    {span(s.low_ms)} – {span(s.high_ms)}
                  </Box>,
                  span(s.most_ms),
                  s.runs,
                  <Changed key="c" list={s.changes} />,
                ],
              }))}
            />
          </Scrolled>
        </>
      )}
    </Box>
  );
}
