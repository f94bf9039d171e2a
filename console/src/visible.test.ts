import { describe, expect, it } from 'vitest';
import { mostShown, partOf, rangeOf, rangeText, Visible } from './visible';

const fold = (name: string, from: number, to: number) => ({ name, from, to });

describe('rows of a log', () => {
  it('are its lines', () => {
    const v = new Visible(10, 1, []);
    expect(v.count).toBe(10);
    expect(v.row(0)).toEqual({ line: 1 });
    expect(v.row(9)).toEqual({ line: 10 });
    expect(v.rowOf(4)).toBe(3);
    expect(new Visible(0, 1, []).count).toBe(0);
  });

  it('are one for each step that is folded', () => {
    const v = new Visible(20, 1, [fold('test', 12, 18), fold('make', 3, 9)]);
    expect(v.count).toBe(20 - 6 - 6);
    const shown = Array.from({ length: v.count }, (_, i) => v.row(i));
    expect(shown.map((r) => r.line)).toEqual([1, 2, 3, 10, 11, 12, 19, 20]);
    expect(shown.map((r) => r.fold?.name)).toEqual([
      undefined,
      undefined,
      'make',
      undefined,
      undefined,
      'test',
      undefined,
      undefined,
    ]);
    for (const [i, r] of shown.entries()) expect(v.rowOf(r.line)).toBe(i);
    expect(v.rowOf(7)).toBe(2);
    expect(v.rowOf(18)).toBe(5);
  });

  it('are no fewer for a step of one line, nor for folds that overlap', () => {
    expect(new Visible(9, 1, [fold('a', 4, 4)]).count).toBe(9);
    expect(new Visible(9, 1, [fold('a', 2, 5), fold('b', 4, 8)]).count).toBe(6);
  });

  it('are those of a part, where a log is long', () => {
    const total = 10_000_000;
    expect(partOf(1)).toBe(1);
    expect(partOf(mostShown)).toBe(1);
    expect(partOf(mostShown + 1)).toBe(mostShown + 1);
    const v = new Visible(total, partOf(total), [fold('all', 1, total)]);
    expect(v.last).toBe(total);
    expect(v.count).toBe(1);
    expect(v.row(0)).toEqual({ line: v.first, fold: fold('all', 1, total) });
    const w = new Visible(total, partOf(5_000_000), []);
    expect(w.count).toBe(mostShown);
    expect(w.row(w.rowOf(5_000_000)).line).toBe(5_000_000);
  });
});

describe('what an address marks', () => {
  it('is a line, or some', () => {
    expect(rangeOf('7')).toEqual({ line: 7, to: 7 });
    expect(rangeOf('7-12')).toEqual({ line: 7, to: 12 });
    expect(rangeOf('12-7')).toEqual({ line: 12, to: 12 });
    for (const text of [null, '', '0', 'x', '7-', '-3', '1e9', '99999999999']) expect(rangeOf(text)).toBeUndefined();
    expect(rangeText(7, 12)).toBe('7-12');
    expect(rangeText(7, 7)).toBe('7');
  });
});
