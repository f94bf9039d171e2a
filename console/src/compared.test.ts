import { describe, expect, it } from 'vitest';
import type { LogComparison } from './api/client';
import { besides, caveats, differing } from './compared';

const line = (n: number, x: string) => ({ n, t: 1, s: 0, x });
const d: LogComparison = {
  was: { run: 3, job: 'core', attempt: 1, state: 'passed', lines: 23, from: 1 },
  is: { run: 9, job: 'core', attempt: 1, state: 'failed', lines: 24, from: 1 },
  different: 2,
  parts: [
    { same: true, was: [], is: [], hidden: 18 },
    { same: true, was: [line(19, 'a')], is: [line(19, 'a')] },
    { same: false, was: [line(20, '7 passed')], is: [line(20, '6 passed'), line(21, '1 failed')] },
  ],
};

describe('two logs beside each other', () => {
  it('has line beside line, and says how many are left out', () => {
    expect(besides(d)).toEqual([
      { hidden: 18, part: 0 },
      { was: line(19, 'a'), is: line(19, 'a'), same: true, part: 1 },
      { was: line(20, '7 passed'), is: line(20, '6 passed'), same: false, part: 2 },
      { was: undefined, is: line(21, '1 failed'), same: false, part: 2 },
    ]);
    expect(differing(d)).toEqual([2]);
  });

  it('says what was not compared', () => {
    expect(caveats(d)).toEqual([]);
    const more = caveats({ ...d, was: { ...d.was, from: 501 }, rough: true, more: true });
    expect(more[0]).toBe('Of run 3 only what comes from line 501 on was compared.');
    expect(more).toHaveLength(3);
  });
});
