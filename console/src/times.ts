/** What the pictures of times are drawn from. */

import type { Shorter, TimedChange, Times } from './api/client';
import { span } from './text';

/** How many steps are drawn by themselves; the others are drawn together. */
export const drawn = 7;

/** A part of each run's time: of all runs, in their order. */
export interface Part {
  label: string;
  data: number[];
}

/** Where the time of runs that machines worked went, as parts that stand on each other. */
export function parts(t: Times): Part[] {
  const one = (n: number) => t.runs.map((r) => r.steps_ms[n] ?? 0);
  const list = t.steps.slice(0, drawn).map((s, n) => ({ label: `${s.job} › ${s.step}`, data: one(n) }));
  const rest = t.runs.map((r) => r.steps_ms.slice(drawn).reduce((sum, ms) => sum + ms, 0) + r.wrapped_ms);
  const all = [{ label: 'preparing', data: t.runs.map((r) => r.prepared_ms) }, ...list];
  if (rest.some((ms) => ms > 0))
    all.push({ label: t.steps.length > drawn ? 'other steps, wrapping' : 'wrapping', data: rest });
  return all;
}

/** What is marked above runs: releases, and other versions of tools. */
export function marks(t: Times): { run: number; text: string }[] {
  return t.runs.flatMap((r) => {
    const text = [
      r.release && `release ${r.release}`,
      ...(r.tools ?? []).map((d) => `${d.what} ${d.before ?? 'none'} → ${d.after ?? 'none'}`),
    ].filter(Boolean);
    return text.length > 0 ? [{ run: r.run, text: text.join(', ') }] : [];
  });
}

/** Which other runs something may have begun with, in words: times alone do not always tell. */
export const orOf = (c: { first: number; last: number }) =>
  c.first === c.last ? '' : ` (one of ${c.first} to ${c.last})`;

/** A change of a step's time in words. */
export const changed = (c: TimedChange) =>
  `${c.now_ms > c.before_ms ? 'slower' : 'quicker'} since ${c.first === c.last ? '' : 'about '}run ${c.run}` +
  `${orOf(c)}: ${span(c.before_ms)} → ${span(c.now_ms)}`;

const size = (c: TimedChange) => Math.abs(Math.log((c.now_ms + 1) / (c.before_ms + 1)));

/** The changes of a step's time that are told: the last, and before it the greatest where that is another. */
export function told(list: TimedChange[]): TimedChange[] {
  const last = list.at(-1);
  if (!last) return [];
  const greatest = list.reduce((a, b) => (size(b) >= size(a) ? b : a));
  return greatest === last ? [last] : [greatest, last];
}

/** What would have made a run shorter, in words. */
export function shorter(s: Shorter): string {
  switch (s.kind) {
    case 'machine':
      return 'with one more machine';
    case 'reuse':
      return `if ${s.job} › ${s.step} were reused (inputs)`;
    default:
      return `if ${s.job} did not come after ${s.other}`;
  }
}
