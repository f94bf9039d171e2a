import { describe, expect, it } from 'vitest';
import type { Times } from './api/client';
import { changed, drawn, marks, parts, shorter, told } from './times';

const run = (n: number, steps: number[]) => ({
  run: n,
  state: 'passed',
  commit: 'c',
  subject: '',
  at: '2026-01-01T00:00:00Z',
  total_ms: 100,
  waited_ms: 5,
  prepared_ms: 10,
  wrapped_ms: 3,
  steps_ms: steps,
  hits: 0,
  misses: 0,
});
const step = (name: string) => ({
  job: 'j',
  step: name,
  machine: '',
  runs: 2,
  median_ms: 1,
  low_ms: 1,
  high_ms: 1,
  most_ms: 1,
});
const times = (steps: number): Times => ({
  pipeline: 'p',
  pipelines: ['p'],
  steps: Array.from({ length: steps }, (_, i) => step(`s${i}`)),
  runs: [1, 2].map((n) =>
    run(
      n,
      Array.from({ length: steps }, (_, i) => n * (i + 1)),
    ),
  ),
});

describe('parts of times', () => {
  it('leave nothing out', () => {
    const t = times(drawn + 3);
    const all = parts(t);
    expect(all).toHaveLength(drawn + 2);
    t.runs.forEach((r, i) => {
      const sum = all.reduce((n, p) => n + (p.data[i] ?? 0), 0);
      expect(sum).toBe(r.prepared_ms + r.wrapped_ms + r.steps_ms.reduce((n, ms) => n + ms, 0));
    });
    expect(all[1]?.label).toBe('j › s0');
    expect(parts(times(2)).at(-1)?.label).toBe('wrapping');
  });
});

describe('what is marked', () => {
  it('is a release, and a tool of another version', () => {
    const t = times(1);
    const tools = [{ what: 'clang', before: '14', after: '15' }];
    t.runs = t.runs.map((r, i) => (i === 1 ? { ...r, release: '1.5', tools } : r));
    expect(marks(t)).toEqual([{ run: 2, text: 'release 1.5, clang 14 → 15' }]);
  });
});

describe('words of times', () => {
  it('say which way it went, and what would have helped', () => {
    const c = { run: 7, first: 7, last: 7, after: 6, before_ms: 1000, now_ms: 2000, commit: 'c', subject: 's' };
    expect(changed(c)).toBe('slower since run 7: 1.0 s → 2.0 s');
    expect(changed({ ...c, now_ms: 500 })).toContain('quicker');
    expect(changed({ ...c, first: 6, last: 9 })).toBe('slower since about run 7 (one of 6 to 9): 1.0 s → 2.0 s');
    const [small, great] = [
      { ...c, run: 9, now_ms: 1100 },
      { ...c, run: 8, now_ms: 5000 },
    ];
    expect(told([c, great, small]).map((t) => t.run)).toEqual([8, 9]);
    expect(told([small, great]).map((t) => t.run)).toEqual([8]);
    expect(told([])).toEqual([]);
    expect(shorter({ kind: 'machine', saves_ms: 1 })).toContain('one more machine');
    expect(shorter({ kind: 'reuse', job: 'a', step: 'b', saves_ms: 1 })).toContain('a › b');
    expect(shorter({ kind: 'beside', job: 'a', other: 'b', saves_ms: 1 })).toBe('if a did not come after b');
  });
});
