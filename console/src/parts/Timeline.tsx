import Box from '@mui/material/Box';
import ButtonBase from '@mui/material/ButtonBase';
import Typography from '@mui/material/Typography';
import type { Gate, Job, RunDetail, State } from '../api/client';
import { axisOf, type Axis as TimeAxis } from '../pauses';
import { size, span } from '../text';
import { StateMark, stateColour } from './StateMark';

/** Which step of which job is looked at; step -1 is the job as a whole. */
export interface Place {
  job: string;
  step: number;
}

const ms = (t: string | undefined) => (t ? Date.parse(t) : undefined);

interface Stretch {
  from: number;
  to: number;
  kind: 'queue' | 'prepare' | State;
  title: string;
}

/** How long people were asked. */
const askedFor = (gate: Gate, now: number) => (ms(gate.ended) ?? now) - Date.parse(gate.asked);

function stretches(job: Job, step: number, now: number): Stretch[] {
  const end = ms(job.finished) ?? now;
  if (step >= 0) {
    const s = job.steps[step];
    const from = ms(s?.started);
    return s && from
      ? [
          {
            from,
            to: ms(s.finished) ?? end,
            kind: s.state,
            title: `${s.name}: ${span((ms(s.finished) ?? end) - from)}`,
          },
        ]
      : [];
  }
  const queued = ms(job.queued);
  if (!queued) return [];
  if (job.gate && !job.claimed)
    return [{ from: queued, to: end, kind: 'queue', title: `waited ${span(end - queued)} for people` }];
  const claimed = ms(job.claimed) ?? end;
  const list: Stretch[] = [
    { from: queued, to: claimed, kind: 'queue', title: `waited ${span(claimed - queued)} for a runner` },
  ];
  if (job.claimed) {
    const prepared = ms(job.prepared) ?? end;
    list.push({
      from: claimed,
      to: prepared,
      kind: 'prepare',
      title: `checkout and caches took ${span(prepared - claimed)}`,
    });
  }
  return list;
}

/** The pattern of a stretch in which nothing was done but waiting. */
const hatched = (colour: string | undefined) =>
  `repeating-linear-gradient(135deg, ${colour} 0 1px, transparent 1px 5px)`;

function Bar({ list, axis }: { list: Stretch[]; axis: TimeAxis }) {
  return (
    <Box aria-hidden sx={{ position: 'relative', height: 12 }}>
      {list.map((s) => (
        <Box
          key={s.kind}
          title={s.title}
          sx={(theme) => ({
            position: 'absolute',
            top: 1,
            bottom: 1,
            borderRadius: '2px',
            minWidth: '2px',
            left: `${(100 * axis.at(s.from)) / axis.length}%`,
            width: `${(100 * Math.max(0, axis.at(s.to) - axis.at(s.from))) / axis.length}%`,
            ...(s.kind === 'queue'
              ? {
                  backgroundImage: hatched(theme.vars?.palette.state.quiet),
                }
              : s.kind === 'prepare'
                ? { border: `1px solid ${theme.vars?.palette.state.quiet}` }
                : { backgroundColor: stateColour(s.kind)(theme) }),
          })}
        />
      ))}
    </Box>
  );
}

function Axis({ axis }: { axis: TimeAxis }) {
  const length = axis.work;
  const steps = [100, 200, 500, 1e3, 2e3, 5e3, 1e4, 2e4, 3e4, 6e4, 12e4, 3e5, 6e5, 12e5, 36e5];
  const tick = steps.find((s) => length / s <= 5) ?? length;
  const ticks = Array.from({ length: Math.floor(length / tick) + 1 }, (_, i) => i * tick);
  return (
    <Box aria-hidden sx={{ position: 'relative', height: 16, fontSize: 11, color: 'text.secondary' }}>
      {ticks.map((t, i) => (
        <Box
          key={t}
          component="span"
          sx={{
            position: 'absolute',
            left: `${(100 * axis.worked(t)) / axis.length}%`,
            borderLeft: 1,
            borderColor: 'divider',
            pl: 0.5,
            lineHeight: '14px',
            whiteSpace: 'nowrap',
          }}
        >
          {t / length < 0.87 && (
            <Box component="span" sx={{ display: { xs: i % 2 ? 'none' : 'inline', md: 'inline' } }}>
              {span(t)}
            </Box>
          )}
        </Box>
      ))}
    </Box>
  );
}

function Line({
  name,
  took,
  list,
  axis,
  on,
  select,
  state,
  head,
  note,
}: {
  name: string;
  took: string;
  list: Stretch[];
  axis: TimeAxis;
  on: boolean;
  select: () => void;
  state: State;
  head?: boolean;
  note?: string | undefined;
}) {
  return (
    <ButtonBase
      onClick={select}
      aria-current={on ? 'true' : undefined}
      sx={{
        display: 'grid',
        gridTemplateColumns: 'minmax(0, 1.1fr) 64px minmax(0, 1.2fr)',
        columnGap: 1,
        width: '100%',
        px: 1.5,
        py: '3px',
        textAlign: 'left',
        alignItems: 'center',
        borderLeft: '3px solid transparent',
        font: 'inherit',
        ...(on && { bgcolor: 'var(--mui-palette-soft)', borderLeftColor: 'primary.main' }),
        '&:hover': { bgcolor: 'var(--mui-palette-soft)' },
      }}
    >
      <Box sx={{ display: 'flex', gap: 0.75, alignItems: 'baseline', pl: head ? 0 : 1.5, minWidth: 0 }}>
        <StateMark state={state} wordless={!head} />
        <Box
          component="span"
          title={name}
          sx={{ overflow: 'hidden', textOverflow: 'ellipsis', whiteSpace: 'nowrap', fontWeight: head ? 650 : 400 }}
        >
          {name}
        </Box>
        {note && (
          <Box component="span" sx={{ fontSize: 11, color: 'text.secondary', whiteSpace: 'nowrap' }}>
            {note}
          </Box>
        )}
      </Box>
      <Box
        component="span"
        sx={{
          textAlign: 'right',
          fontVariantNumeric: 'tabular-nums',
          color: head ? 'text.primary' : 'text.secondary',
          fontSize: 12,
        }}
      >
        {took}
      </Box>
      <Bar list={list} axis={axis} />
    </ButtonBase>
  );
}

/** Jobs and steps in order, each with its stretch of the run's time. */
export function Timeline({
  run,
  now,
  place,
  select,
}: {
  run: RunDetail;
  now: number;
  place: Place;
  select: (p: Place) => void;
}) {
  const from = Date.parse(run.queued);
  const end = ms(run.finished) ?? now;
  const axis = axisOf(run, now);
  return (
    <Box component="section" aria-label="Jobs and steps on the time axis">
      <Box
        sx={{
          display: 'grid',
          gridTemplateColumns: 'minmax(0, 1.1fr) 64px minmax(0, 1.2fr)',
          columnGap: 1,
          px: 1.5,
          pt: 1,
          pl: '15px',
        }}
      >
        <Typography variant="h2">Where the time went</Typography>
        <span />
        <Axis axis={axis} />
      </Box>
      {run.jobs.map((job) => (
        <Box key={job.name} sx={{ py: 0.5, borderBottom: 1, borderColor: 'divider' }}>
          <Line
            head
            name={job.name}
            state={job.state}
            took={
              job.gate && !job.claimed ? span(askedFor(job.gate, now)) : job.claimed ? span(job.timing.total_ms) : ''
            }
            axis={axis}
            list={stretches(job, -1, now)}
            on={place.job === job.name && place.step < 0}
            select={() => select({ job: job.name, step: -1 })}
            note={job.attempt > 1 ? `attempt ${job.attempt}` : undefined}
          />
          {job.state !== 'skipped' &&
            job.steps.map((s, i) => (
              <Line
                key={i}
                name={s.name}
                state={s.state}
                axis={axis}
                list={stretches(job, i, now)}
                took={s.started ? span((ms(s.finished) ?? ms(job.finished) ?? now) - Date.parse(s.started)) : ''}
                on={place.job === job.name && place.step === i}
                select={() => select({ job: job.name, step: i })}
                note={
                  s.advisory && s.state === 'failed'
                    ? 'only reported'
                    : s.state === 'reused' && s.reuse?.run
                      ? `of run ${s.reuse.run}, ${span(s.reuse.took_ms ?? 0)} then`
                      : s.name === job.timing.slowest && job.steps.length > 1 && job.finished
                        ? 'slowest'
                        : undefined
                }
              />
            ))}
          <Facts job={job} />
        </Box>
      ))}
      <Box sx={{ display: 'flex', gap: 2, px: 1.5, py: 0.75, fontSize: 11, color: 'text.secondary' }}>
        <span>▨ waited for a runner</span>
        <span>▭ checkout and caches</span>
        <span>
          total {span(end - from)}
          {axis.asked > 0 && `, of which people were asked for ${span(axis.asked)}`}
        </span>
      </Box>
    </Box>
  );
}

/** Says why a step that could have been reused was run; nothing for any other. */
function stepRan(s: Job['steps'][number]): string | undefined {
  const r = s.reuse;
  if (!r || s.state === 'reused') return undefined;
  if (r.unlike) return `not reproducible: ${r.unlike}`;
  const differs = r.differs ?? [];
  if (differs.length === 0) return undefined;
  const more = differs.length + (r.more ?? 0) - 3;
  const what = `${differs.slice(0, 3).join(', ')}${more > 0 ? ` and ${more} more` : ''}`;
  return `run again, since ${what} changed after run ${r.run}`;
}

/** Says what came of a cache. */
function cacheCame(c: Job['caches'][number]): string {
  const of = `${c.run ? ` of run ${c.run}` : ''}${c.line ? ` on ${c.line}` : ''}`;
  const from = c.here ? 'already on the runner' : 'fetched';
  const differs = c.differs ?? [];
  const why =
    differs.length > 0 ? `, since ${differs.slice(0, 3).join(', ')} differ${differs.length === 1 ? 's' : ''}` : '';
  const came = c.hit ? `hit${of}, ${from}` : c.nearest ? `miss${why}; the nearest${of}, ${from}` : 'miss';
  const saved = c.saved ? `; saved, ${size(c.stored ?? 0)} new` : '';
  return `${came}${saved}; ${size(c.size)} in ${span(c.took_ms)}`;
}

/** What a job's caches and tests came to, and why it is as it is. */
function Facts({ job }: { job: Job }) {
  const facts: string[] = [];
  if (job.waiting) facts.push(`waits: ${job.waiting}`);
  if (job.reason && job.state !== 'failed') facts.push(job.reason);
  if (job.advisory) facts.push('advisory: its failure changes nothing else');
  if (job.tools)
    facts.push(
      Object.entries(job.tools)
        .map(([name, version]) => `${name} ${version}`)
        .join(', '),
    );
  for (const s of job.steps) {
    const why = stepRan(s);
    if (why) facts.push(`${s.name}: ${why}`);
  }
  for (const c of job.caches) {
    facts.push(`cache ${c.name}: ${cacheCame(c)}${c.note ? ` (${c.note})` : ''}`);
  }
  if (job.tests) {
    const { passed, failed, skipped } = job.tests;
    facts.push(`tests: ${passed} passed, ${failed} failed${skipped ? `, ${skipped} skipped` : ''}`);
  }
  for (const a of job.attempts.slice(0, -1)) facts.push(`attempt ${a.number} ${a.state}: ${a.reason ?? ''}`);
  if (facts.length === 0) return null;
  return (
    <Box sx={{ pl: '39px', pr: 1.5, fontSize: 12, color: 'text.secondary' }}>
      {facts.map((f) => (
        <div key={f}>{f}</div>
      ))}
    </Box>
  );
}
