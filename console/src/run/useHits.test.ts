import { describe, expect, it } from 'vitest';
import { beside, errorPattern } from './useHits';

describe('beside', () => {
  it('goes from hit to hit, around the end', () => {
    const lines = [3, 9, 40];
    expect(beside(lines, 0, false)).toBe(3);
    expect(beside(lines, 3, false)).toBe(9);
    expect(beside(lines, 40, false)).toBe(3);
    expect(beside(lines, 9, true)).toBe(3);
    expect(beside(lines, 3, true)).toBe(40);
    expect(beside([], 3, false)).toBeUndefined();
  });
});

describe('what looks like an error', () => {
  it('is an error, and no flag of a command line', () => {
    const e = new RegExp(errorPattern.slice(4), 'i');
    for (const line of ['error: no such', 'a.c:3: Error', 'FAILED tide', 'undefined reference'])
      expect(e.test(line)).toBe(true);
    for (const line of ['cc -Werror=all', 'errors.go', 'ok']) expect(e.test(line)).toBe(false);
  });
});
