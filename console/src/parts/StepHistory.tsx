import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Paper from '@mui/material/Paper';
import Typography from '@mui/material/Typography';
import { useQuery } from '@tanstack/react-query';
import { Link, useNavigate } from 'react-router';
import { api, take, type TimedStep } from '../api/client';
import { ago, span } from '../text';
import { changed, orOf } from '../times';
import { Course, Histogram } from './Charts';
import { Differences } from './Differences';
import { stateColour } from './StateMark';

/** The history of one step: its course, how its times are spread, its worst runs, and what changed with it. */
export function StepHistory({
  project,
  pipeline,
  branch,
  step,
  close,
}: {
  project: string;
  pipeline: string;
  branch: string;
  step: TimedStep;
  close: () => void;
}) {
  const go = useNavigate();
  const of = `/${encodeURIComponent(project)}`;
  const history = useQuery({
    queryKey: ['step', project, pipeline, branch, step.job, step.step, step.machine],
    queryFn: async () =>
      take(
        await api.GET('/api/v1/projects/{project}/times/step', {
          params: {
            path: { project },
            query: {
              pipeline,
              job: step.job,
              step: step.step,
              machine: step.machine,
              ...(branch && { branch }),
            },
          },
        }),
      ),
  });
  const h = history.data;
  const worst = [...(h?.series ?? [])].filter((r) => r.state === 'passed').sort((a, b) => b.took_ms - a.took_ms);
  return (
    <Paper component="section" id="step" aria-label={`${step.job} › ${step.step}`} sx={{ p: 1.5, mb: 1.5 }}>
      <Box sx={{ display: 'flex', alignItems: 'center', gap: 2, mb: 1 }}>
        <Typography variant="h2" sx={{ flexGrow: 1 }}>
          {step.job} › {step.step}
        </Typography>
        <Button size="small" onClick={close}>
          Close
        </Button>
      </Box>
      {history.error && (
        <Alert severity="error" variant="outlined">
          {history.error.message}
        </Alert>
      )}
      {h && (
        <>
          {h.what.map((w) => (
            <Box key={w.run} sx={{ mb: 1.5 }}>
              <Box sx={{ color: stateColour(w.now_ms > w.before_ms ? 'timed-out' : 'passed'), fontWeight: 650 }}>
                {changed(w)}
              </Box>
              <Box sx={{ display: 'flex', gap: 1, flexWrap: 'wrap' }}>
                <span>
                  different in{' '}
                  <Box component={Link} to={`${of}/${w.run}`} sx={{ color: 'primary.main' }}>
                    run {w.run}
                  </Box>
                  {orOf(w)}:
                </span>
                <Differences of={w.since} />
              </Box>
            </Box>
          ))}
          <Box sx={{ display: 'grid', gridTemplateColumns: { xs: '1fr', md: '2fr 1fr' }, gap: 2 }}>
            <Course
              label={`What it took in the last ${h.series.length} runs`}
              runs={h.series.map((r) => r.run)}
              values={h.series.map((r) => (r.state === 'passed' ? r.took_ms : null))}
              changes={h.what.map((w) => w.run)}
              height={200}
              open={(run) => void go(`${of}/${run}`)}
            />
            <Histogram label="How often it took how long" bars={h.bars} height={200} />
          </Box>
          <Box sx={{ fontSize: 12, mt: 1 }}>
            It took longest in:{' '}
            {worst.slice(0, 5).map((r, i) => (
              <span key={r.run}>
                {i > 0 && ', '}
                <Box component={Link} to={`${of}/${r.run}`} sx={{ color: 'primary.main' }}>
                  run {r.run}
                </Box>{' '}
                ({span(r.took_ms)}, {ago(r.at)})
              </span>
            ))}
          </Box>
        </>
      )}
    </Paper>
  );
}
