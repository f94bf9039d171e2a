import { describe, expect, it } from 'vitest';
import type { RunDetail } from './api/client';
import { axisOf, pausesOf } from './pauses';

const at = (s: number) => new Date(s * 1000).toISOString();
const job = (from: number, to?: number) => ({ name: 'a', queued: at(from), ...(to && { finished: at(to) }) });
const gate = (from: number, to?: number) => ({
  name: 'go',
  gate: { asked: at(from), ...(to && { ended: at(to) }) },
});
const run = (jobs: object[], finished?: number) =>
  ({ queued: at(0), ...(finished && { finished: at(finished) }), jobs }) as unknown as RunDetail;

describe('the time in which people are asked', () => {
  it('is where a gate waits and no machine works', () => {
    expect(pausesOf(run([job(0, 10), gate(10, 100), job(100, 110)], 110), 0)).toEqual([{ from: 10e3, to: 100e3 }]);
    expect(pausesOf(run([job(0, 40), gate(10, 100)], 100), 0)).toEqual([{ from: 40e3, to: 100e3 }]);
    expect(pausesOf(run([job(0, 10), gate(10)]), 70e3)).toEqual([{ from: 10e3, to: 70e3 }]);
    expect(pausesOf(run([gate(0, 50), gate(20, 90)], 90), 0)).toEqual([{ from: 0, to: 90e3 }]);
    expect(pausesOf(run([job(0, 10)], 10), 0)).toEqual([]);
  });

  it('is a strip of the axis, whatever its length', () => {
    const days = 3 * 86400;
    const axis = axisOf(run([job(0, 10), gate(10, days), job(days, days + 10)], days + 10), 0);
    expect(axis.work).toBe(20e3);
    expect(axis.length).toBeCloseTo(21.6e3);
    expect(axis.at(10e3)).toBe(10e3);
    expect(axis.at(days * 1000)).toBeCloseTo(11.6e3);
    expect(axis.at((days + 10) * 1000)).toBeCloseTo(axis.length);
    expect(axis.worked(5e3)).toBe(5e3);
    expect(axis.worked(15e3)).toBeCloseTo(16.6e3);
    expect(axis.asked).toBe((days - 10) * 1000);
  });

  it('is drawn as it was when it was short', () => {
    const axis = axisOf(run([job(0, 10), gate(10, 10.5), job(10.5, 20)], 20), 0);
    expect(axis.length).toBe(20e3);
    expect(axis.at(15e3)).toBe(15e3);
  });
});
