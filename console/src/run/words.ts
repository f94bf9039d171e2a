import type { Fold } from '../visible';
import type { Job, RunDetail } from '../api/client';
import type { Place } from '../parts/Timeline';

export const over = (s: string) => !['queued', 'running', 'waiting'].includes(s);

/** What started a run, in words. */
export function why(run: RunDetail): string {
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
          : run.trigger === 'bisection'
            ? `tried for the first bad change of run ${run.caused_by}, of ${run.author}`
            : `${run.trigger} by ${run.author}`;
  const trusted = run.trigger === 'bisection' ? ': no secrets' : run.outside ? ', from outside: no secrets' : '';
  return `${by}${trusted}${inputs ? ` with ${inputs}` : ''}`;
}

/** Why a job has no log. */
export function whyNoLog(job: Job): string {
  if (job.reason) return job.reason;
  return job.waiting ? `it waits: ${job.waiting}` : 'it waits for the jobs before it';
}

/** Where to look first: what failed, else what runs, else what is to be judged by people, else the last job. */
export function firstPlace(run: RunDetail): Place {
  if (run.failure) return { job: run.failure.job, step: run.failure.step_no };
  const job =
    run.jobs.find((j) => j.state === 'running') ??
    (run.state === 'waiting' ? run.jobs.filter((j) => j.attempt > 0).pop() : undefined) ??
    run.jobs.find((j) => !over(j.state)) ??
    run.jobs[run.jobs.length - 1];
  return { job: job?.name ?? '', step: -1 };
}

/** All places of a run, as the keys go through them: each job, then its steps. */
export const placesOf = (run: RunDetail | undefined): Place[] =>
  run?.jobs.flatMap((j) => [{ job: j.name, step: -1 }, ...j.steps.map((_, i) => ({ job: j.name, step: i }))]) ?? [];

/** The place so many further on; it stays among them. */
export function further(places: Place[], from: Place, by: number): Place | undefined {
  const at = places.findIndex((p) => p.job === from.job && p.step === from.step);
  return places[Math.max(0, Math.min(places.length - 1, at + by))];
}

/** A note that a step has put on the run's page. */
export interface Note {
  key: string;
  job: string;
  name: string;
  text: string;
}

/** The notes of a run, in the order of its jobs and steps. */
/** The steps of a job that can be folded in its log. */
export const foldsOf = (job: Job | undefined): (Fold & { passed: boolean })[] =>
  (job?.steps ?? []).flatMap((s) =>
    s.first_line && s.last_line && over(s.state)
      ? [{ name: s.name, from: s.first_line, to: s.last_line, passed: s.state === 'passed' || s.state === 'reused' }]
      : [],
  );

export const notesOf = (run: RunDetail | undefined): Note[] =>
  run?.jobs.flatMap((job) =>
    job.steps.flatMap((step, i) =>
      step.note ? [{ key: `${job.name}.${i}`, job: job.name, name: step.name, text: step.note }] : [],
    ),
  ) ?? [];
