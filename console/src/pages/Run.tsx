import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import { useQuery } from '@tanstack/react-query';
import { useCallback, useState } from 'react';
import { useNavigate, useParams } from 'react-router';
import { api, take } from '../api/client';
import { gateWord, whoReads } from '../gates';
import { useKeys } from '../keys';
import { Artifacts } from '../parts/Artifacts';
import { FailurePanel, Findings, OnlyReported } from '../parts/FailurePanel';
import { Answers, GatePanel } from '../parts/GatePanel';
import { LogView } from '../parts/LogView';
import { Notes } from '../parts/Notes';
import { RunPackages } from '../parts/RunPackages';
import { RunTime } from '../parts/RunTime';
import { LookAround, RunStays } from '../parts/Stays';
import { SincePanel } from '../parts/SincePanel';
import { Timeline } from '../parts/Timeline';
import { RunHead } from '../run/RunHead';
import { useActs } from '../run/useActs';
import { useNow } from '../run/useNow';
import { usePlace } from '../run/usePlace';
import { foldsOf, notesOf, over, whyNoLog } from '../run/words';
import { useTopic } from '../stream';
import { count } from '../text';

export default function RunPage() {
  const params = useParams();
  const project = params.project ?? '';
  const number = Number(params.number);
  const go = useNavigate();
  const query = useQuery({
    queryKey: ['run', project, number],
    queryFn: async () =>
      take(await api.GET('/api/v1/projects/{project}/runs/{number}', { params: { path: { project, number } } })),
  });
  const run = query.data;
  const now = useNow(run, query.dataUpdatedAt);
  const { place, target, reading: shown, read, mark, openLine, select, move, forget } = usePlace(run);
  const notes = notesOf(run);
  const job = run?.jobs.find((j) => j.name === place.job);
  const attempt = job?.attempt ?? 0;

  const [after, setAfter] = useState<{ log: string; line: number }>();
  const log = `${place.job}.${attempt}`;
  const ready = useCallback((n: number) => setAfter({ log, line: n }), [log]);
  const reading = after?.log === log ? after.line : undefined;
  useTopic(
    reading === undefined
      ? { project, run: number }
      : { project, run: number, job: place.job, attempt, after: reading },
  );

  const acts = useActs(project, number, run, (begun) => {
    forget();
    void query.refetch();
    if (begun !== number) void go(`/${encodeURIComponent(project)}/${begun}`);
  });
  useKeys({
    r: () => {
      if (acts.mayMend) acts.again.mutate(true);
    },
    u: () => void go(`/${encodeURIComponent(project)}`),
    n: () => {
      if (notes.length > 0) read(shown === 'notes' ? 'log' : 'notes');
    },
    j: () => move(1),
    ArrowDown: () => move(1),
    k: () => move(-1),
    ArrowUp: () => move(-1),
    e: () => {
      const l = run?.failure?.lines[0];
      if (run?.failure && l) openLine(run.failure.job, l.n);
    },
  });

  if (query.error)
    return (
      <Alert severity="error" variant="outlined" sx={{ m: 2 }}>
        {query.error.message}
      </Alert>
    );
  if (!run) return null;
  return (
    <Box sx={{ height: '100%', minHeight: 0, display: 'flex', flexDirection: 'column' }}>
      <RunHead run={run} now={now} acts={acts} />
      {run.findings && run.findings.length > 0 && <Findings findings={run.findings} />}
      {run.reported && run.reported.length > 0 && <OnlyReported list={run.reported} />}
      {run.failure && (
        <FailurePanel
          failure={run.failure}
          project={project}
          open={(n) => openLine(run.failure?.job ?? '', n)}
          beside={<LookAround project={project} run={number} job={run.failure.job} />}
        />
      )}
      {run.state !== 'passed' && over(run.state) && run.jobs.length > 0 && <SincePanel run={run} />}
      {run.jobs.map((j) => j.state === 'waiting' && j.gate && <GatePanel key={j.gate.id} gate={j.gate} now={now} />)}
      {run.jobs.length > 0 && (
        <Box
          sx={{
            flexGrow: 1,
            minHeight: 0,
            display: 'grid',
            gridTemplateColumns: { xs: '1fr', md: 'minmax(420px, 46%) 1fr' },
            gap: 1.5,
            p: 1.5,
          }}
        >
          <Box
            sx={{
              overflow: 'auto',
              minHeight: 200,
              border: 1,
              borderColor: 'divider',
              borderRadius: 1,
              bgcolor: 'background.paper',
            }}
          >
            <Timeline run={run} now={now} place={place} select={select} />
            <RunStays run={run} />
            {over(run.state) && <RunTime run={run} />}
            <RunPackages run={run} />
            <Artifacts run={run} />
          </Box>
          <Box
            sx={{
              minHeight: 240,
              border: 1,
              borderColor: 'divider',
              borderRadius: 1,
              bgcolor: 'background.paper',
              overflow: 'hidden',
            }}
          >
            {shown === 'notes' && notes.length > 0 ? (
              <Notes notes={notes} close={() => read('log')} />
            ) : job && attempt > 0 ? (
              <LogView
                key={log}
                project={project}
                run={number}
                job={job.name}
                attempt={attempt}
                over={over(job.state)}
                target={target}
                folds={foldsOf(job)}
                markLine={mark}
                ready={ready}
                beside={
                  notes.length > 0 && (
                    <Button size="small" onClick={() => read('notes')}>
                      {count(notes.length, 'note')}
                    </Button>
                  )
                }
              />
            ) : job?.gate ? (
              <Box sx={{ p: 2 }}>
                <b>{job.gate.question}</b>
                <Box sx={{ color: 'text.secondary' }}>
                  {whoReads(job.gate.who)}: {gateWord(job.gate, now)}
                </Box>
                <Answers gate={job.gate} now={now} />
              </Box>
            ) : (
              <Box sx={{ p: 2, color: 'text.secondary' }}>
                {job ? `${job.name} has no log: ${whyNoLog(job)}.` : 'There is no such job.'}
              </Box>
            )}
          </Box>
        </Box>
      )}
    </Box>
  );
}
