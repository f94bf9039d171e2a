import { describe, expect, it } from 'vitest';
import { LogModel, pageSize } from './log';

const lines = (from: number, to: number) =>
  Array.from({ length: to - from + 1 }, (_, i) => ({ n: from + i, t: 0, s: 0, x: `line ${from + i}` }));

describe('LogModel', () => {
  it('asks for each page it lacks, once', () => {
    const log = new LogModel();
    log.add(lines(199_001, 200_000), 200_000);
    expect(log.total).toBe(200_000);
    expect(log.missing(199_500, 200_000)).toEqual([]);
    expect(log.missing(197_500, 199_500)).toEqual([197_001, 198_001]);
    expect(log.missing(197_500, 199_500)).toEqual([]);
    log.forget(197_001);
    expect(log.missing(197_500, 199_500)).toEqual([197_001]);
  });

  it('takes live lines after a fetched tail without doubling any', () => {
    const log = new LogModel();
    log.add(lines(1, 1500));
    log.add(lines(1490, 1600));
    expect(log.total).toBe(1600);
    expect(log.line(1495)?.x).toBe('line 1495');
    expect(log.line(1600)?.x).toBe('line 1600');
    expect(log.line(1601)).toBeUndefined();
    expect(log.missing(1, 1600)).toEqual([]);
  });

  it('notices a gap inside a page', () => {
    const log = new LogModel();
    log.add(lines(1, 10));
    log.add(lines(20, pageSize));
    expect(log.missing(1, pageSize)).toEqual([1]);
  });
});
