import type { RunDetail } from './api/client';

/**
 * The time axis of a run. While people were asked and no machine was at work nothing is to be seen, for days maybe:
 * such a pause is drawn as a narrow strip, so that what was worked stays in sight.
 */
export interface Axis {
  /** Where a moment is drawn, in milliseconds along the axis. */
  at: (time: number) => number;
  /** Where so much work is done, along the axis. */
  worked: (ms: number) => number;
  /** Of the whole axis, and of the work on it. */
  length: number;
  work: number;
  /** How long nothing was waited for but people. */
  asked: number;
}

interface Pause {
  from: number;
  to: number;
}

/** When a run waited for people, and for nothing else. */
export function pausesOf(run: RunDetail, now: number): Pause[] {
  const end = run.finished ? Date.parse(run.finished) : now;
  const busy = run.jobs
    .filter((j) => j.queued && (!j.gate || j.claimed))
    .map((j) => ({ from: Date.parse(j.queued ?? ''), to: j.finished ? Date.parse(j.finished) : end }))
    .sort((a, b) => a.from - b.from);
  const out: Pause[] = [];
  for (const j of run.jobs) {
    if (!j.gate) continue;
    let from = Date.parse(j.gate.asked);
    const to = j.gate.ended ? Date.parse(j.gate.ended) : end;
    for (const b of busy) {
      if (b.to <= from || b.from >= to) continue;
      if (b.from > from) out.push({ from, to: b.from });
      from = Math.max(from, b.to);
    }
    if (to > from) out.push({ from, to });
  }
  // Two gates may have waited at the same time.
  out.sort((a, b) => a.from - b.from);
  return out.reduce<Pause[]>((list, p) => {
    const last = list[list.length - 1];
    if (last && p.from <= last.to) last.to = Math.max(last.to, p.to);
    else list.push({ ...p });
    return list;
  }, []);
}

/** The part of the axis that a pause is drawn as. */
const strip = 0.08;

export function axisOf(run: RunDetail, now: number): Axis {
  const start = Date.parse(run.queued);
  const whole = Math.max((run.finished ? Date.parse(run.finished) : now) - start, 100);
  const all = pausesOf(run, now);
  const asked = all.reduce((n, p) => n + p.to - p.from, 0);
  const width = strip * Math.max(whole - asked, 100);
  const pauses = all.filter((p) => p.to - p.from > width);
  const hidden = pauses.reduce((n, p) => n + p.to - p.from, 0);
  const at = (time: number) =>
    pauses.reduce((n, p) => {
      const passed = Math.min(Math.max(time - p.from, 0), p.to - p.from);
      return n - passed + (width * passed) / (p.to - p.from);
    }, time - start);
  const worked = (ms: number) => {
    let time = start + ms;
    for (const p of pauses) if (p.from < time) time += p.to - p.from;
    return at(time);
  };
  return { at, worked, length: whole - hidden + width * pauses.length, work: whole - hidden, asked };
}
