import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import { useMutation, useQuery } from '@tanstack/react-query';
import { useCallback, useEffect, useMemo, useState } from 'react';
import { useNavigate, useParams, useSearchParams } from 'react-router';
import { api, Refusal, take, type Job, type RunDetail } from '../api/client';
import { useKeys } from '../keys';
import { useMe } from '../me';
import { Artifacts } from '../parts/Artifacts';
import { FailurePanel, Findings, OnlyReported } from '../parts/FailurePanel';
import { LogView } from '../parts/LogView';
import { built, RunOf } from '../parts/RunOf';
import { SincePanel } from '../parts/SincePanel';
import { StateMark } from '../parts/StateMark';
import { Timeline, type Place } from '../parts/Timeline';
import { useTopic } from '../stream';
import { ago, span } from '../text';

const over = (s: string) => !['queued', 'running', 'waiting'].includes(s);

/** The server's clock, ticking while the run is open. */
function useNow(run: RunDetail | undefined, read: number) {
  const [clock, setClock] = useState(read);
  const open = run !== undefined && !over(run.state);
  useEffect(() => {
    if (!open) return;
    const timer = setInterval(() => setClock(Date.now()), 250);
    return () => clearInterval(timer);
  }, [open]);
  return run ? Date.parse(run.now) + (open ? Math.max(0, clock - read) : 0) : 0;
}

/** What started a run, in words. */
function why(run: RunDetail): string {
  const inputs = Object.entries(run.inputs ?? {})
    .map(([k, v]) => `${k} ${v}`)
    .join(', ');
  const by =
    run.trigger === 'person'
      ? `started by ${run.started_by}${run.caused_by ? `, again after run ${run.caused_by}` : ''}`
      : run.trigger === 'schedule'
        ? `schedule ${run.schedule}`
        : run.trigger === 'pipeline'
          ? `after run ${run.caused_by}`
          : `${run.trigger} by ${run.author}`;
  return `${by}${run.outside ? ', from outside: no secrets' : ''}${inputs ? ` with ${inputs}` : ''}`;
}

/** Why a job has no log. */
function whyNoLog(job: Job): string {
  if (job.reason) return job.reason;
  return job.waiting ? `it waits: ${job.waiting}` : 'it waits for the jobs before it';
}

/** Where to look first: what failed, else what runs, else the last job. */
function firstPlace(run: RunDetail): Place {
  if (run.failure) return { job: run.failure.job, step: run.failure.step_no };
  const job =
    run.jobs.find((j) => j.state === 'running') ??
    run.jobs.find((j) => !over(j.state)) ??
    run.jobs[run.jobs.length - 1];
  return { job: job?.name ?? '', step: -1 };
}

export default function RunPage() {
  const params = useParams();
  const project = params.project ?? '';
  const number = Number(params.number);
  const go = useNavigate();
  const [search, setSearch] = useSearchParams();
  const query = useQuery({
    queryKey: ['run', project, number],
    queryFn: async () =>
      take(await api.GET('/api/v1/projects/{project}/runs/{number}', { params: { path: { project, number } } })),
  });
  const run = query.data;
  const now = useNow(run, query.dataUpdatedAt);
  const [chosen, choose] = useState<Place>();
  const linked = search.get('job');
  const line = Number(search.get('line')) || undefined;
  const place = chosen ?? (linked ? { job: linked, step: -1 } : run ? firstPlace(run) : { job: '', step: -1 });
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

  const [target, setTarget] = useState<{ line: number } | undefined>(line ? { line } : undefined);
  const mark = useCallback(
    (n: number) => {
      setTarget({ line: n });
      setSearch(
        (s) => {
          s.set('job', place.job);
          s.set('line', String(n));
          return s;
        },
        { replace: true },
      );
    },
    [place.job, setSearch],
  );
  const openLine = (name: string, n: number) => {
    choose({ job: name, step: run?.failure?.step_no ?? -1 });
    setTarget({ line: n });
    setSearch(
      (s) => {
        s.set('job', name);
        s.set('line', String(n));
        return s;
      },
      { replace: true },
    );
  };
  const select = (p: Place) => {
    choose(p);
    const step = run?.jobs.find((j) => j.name === p.job)?.steps[p.step];
    setTarget(step?.first_line ? { line: step.first_line } : undefined);
    setSearch(
      (s) => {
        s.set('job', p.job);
        s.delete('line');
        return s;
      },
      { replace: true },
    );
  };
  const places = useMemo(
    () =>
      run?.jobs.flatMap((j) => [{ job: j.name, step: -1 }, ...j.steps.map((_, i) => ({ job: j.name, step: i }))]) ?? [],
    [run],
  );
  const move = (by: number) => {
    const at = places.findIndex((p) => p.job === place.job && p.step === place.step);
    const next = places[Math.max(0, Math.min(places.length - 1, at + by))];
    if (next) select(next);
  };
  const mayBuild = useMe().may('builder', project);
  const stop = useMutation({
    mutationFn: async () => {
      const answer = await api.POST('/api/v1/projects/{project}/runs/{number}/stop', {
        params: { path: { project, number } },
      });
      if (answer.error) throw new Refusal(answer.response.status, answer.error.detail ?? 'It could not be stopped.');
    },
  });
  const again = useMutation({
    mutationFn: async (failed: boolean) =>
      take(
        await api.POST('/api/v1/projects/{project}/runs/{number}/again', {
          params: { path: { project, number } },
          body: { failed },
        }),
      ),
    onSuccess: (r) => {
      choose(undefined);
      void query.refetch();
      if (r.number !== number) void go(`/${encodeURIComponent(project)}/${r.number}`);
    },
  });
  const canMend = mayBuild && run !== undefined && over(run.state) && run.jobs.some((j) => j.state !== 'passed');
  useKeys({
    r: () => {
      if (canMend) again.mutate(true);
    },
    u: () => void go(`/${encodeURIComponent(project)}`),
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
  const end = run.finished ? Date.parse(run.finished) : now;
  return (
    <Box sx={{ height: '100%', minHeight: 0, display: 'flex', flexDirection: 'column' }}>
      <Box
        sx={{
          display: 'flex',
          gap: 2,
          alignItems: 'baseline',
          px: 2,
          py: 1,
          borderBottom: 1,
          borderColor: 'divider',
          bgcolor: 'background.paper',
          flexWrap: 'wrap',
          fontSize: 13,
        }}
      >
        <StateMark state={run.state} size={16} />
        <Box component="h1" sx={{ m: 0, fontSize: 16, fontWeight: 650 }}>
          {run.subject || `run ${run.number}`}
        </Box>
        <span>
          {run.pipeline} of <RunOf run={run} />
        </span>
        {built(run) && <span>build {built(run)}</span>}
        <Box component="span" sx={{ color: 'text.secondary' }}>
          {why(run)}, {ago(run.queued, now)}, {span(Math.max(0, end - Date.parse(run.queued)))}
        </Box>
        <Box sx={{ flexGrow: 1 }} />
        {again.error && (
          <Box role="alert" sx={{ color: 'error.main' }}>
            {again.error.message}
          </Box>
        )}
        {over(run.state) && mayBuild && (
          <Box sx={{ display: 'flex', gap: 1, alignItems: 'baseline', whiteSpace: 'nowrap' }}>
            Again:
            {canMend && (
              <Button
                size="small"
                variant="outlined"
                disabled={again.isPending}
                aria-label="Start again what failed"
                onClick={() => again.mutate(true)}
              >
                failed
              </Button>
            )}
            <Button
              size="small"
              variant="outlined"
              disabled={again.isPending}
              aria-label="Start all of it again"
              onClick={() => again.mutate(false)}
            >
              all
            </Button>
          </Box>
        )}
        {stop.error && (
          <Box role="alert" sx={{ color: 'error.main' }}>
            {stop.error.message}
          </Box>
        )}
        {!over(run.state) && mayBuild && (
          <Button
            size="small"
            variant="outlined"
            color="error"
            disabled={stop.isPending || stop.isSuccess}
            onClick={() => stop.mutate()}
          >
            {stop.isSuccess ? 'Stopping …' : 'Stop'}
          </Button>
        )}
      </Box>
      {run.findings && run.findings.length > 0 && <Findings findings={run.findings} />}
      {run.state !== 'passed' && over(run.state) && run.jobs.length > 0 && <SincePanel run={run} />}
      {run.reported && run.reported.length > 0 && <OnlyReported list={run.reported} />}
      {run.failure && <FailurePanel failure={run.failure} open={(n) => openLine(run.failure?.job ?? '', n)} />}
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
            {job && attempt > 0 ? (
              <LogView
                key={log}
                project={project}
                run={number}
                job={job.name}
                attempt={attempt}
                over={over(job.state)}
                target={target}
                markLine={mark}
                ready={ready}
              />
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
