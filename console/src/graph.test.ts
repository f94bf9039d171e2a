import { describe, expect, it } from 'vitest';
import { direct, layers } from './graph';

describe('direct', () => {
  it('leaves out what follows from the rest', () => {
    const edges = direct([
      { name: 'a', after: [] },
      { name: 'b', after: ['a'] },
      { name: 'c', after: ['a', 'b'] },
    ]);
    expect(edges.get('c')).toEqual(['b']);
    expect(edges.get('b')).toEqual(['a']);
  });
});

describe('layers', () => {
  it('puts each job right of all that it comes after', () => {
    const jobs = [
      { name: 'core', after: [] },
      { name: 'docs', after: [] },
      { name: 'android', after: ['core'] },
      { name: 'store', after: ['android', 'docs'] },
    ];
    const places = layers(jobs);
    for (const j of jobs)
      for (const a of j.after) expect(places.get(j.name)?.layer).toBeGreaterThan(places.get(a)?.layer ?? 99);
    expect(places.get('store')?.layer).toBe(2);
  });
  it('gives no two jobs the same place', () => {
    const jobs = Array.from({ length: 40 }, (_, i) => ({
      name: `j${i}`,
      after: i < 4 ? [] : [`j${i % 4}`, `j${i - 3}`],
    }));
    const seen = new Set([...layers(jobs).values()].map((p) => `${p.layer},${p.row}`));
    expect(seen.size).toBe(40);
  });
  it('keeps jobs near those before them, so that lines do not cross', () => {
    const places = layers([
      { name: 'a', after: [] },
      { name: 'b', after: [] },
      { name: 'after-b', after: ['b'] },
      { name: 'after-a', after: ['a'] },
    ]);
    expect(places.get('after-a')?.row).toBe(0);
    expect(places.get('after-b')?.row).toBe(1);
  });
  it('bears a job that comes after one that is not there', () => {
    expect(layers([{ name: 'a', after: ['gone'] }]).get('a')).toEqual({ layer: 0, row: 0 });
  });
});
