import { describe, expect, it } from 'vitest';
import { found, pathOf, places, projectRooms, roomAt, serviceRooms } from './rooms';

const named = (list: typeof projectRooms, name: string) => {
  const r = list.find((x) => x.name === name);
  if (!r) throw new Error(name);
  return r;
};

const may = () => true;

describe('rooms', () => {
  it('have one path each', () => {
    for (const list of [projectRooms, serviceRooms]) expect(new Set(list.map((r) => r.path)).size).toBe(list.length);
    expect(pathOf(named(projectRooms, 'Time'), 'a b')).toBe('/a%20b/time');
    expect(pathOf(named(serviceRooms, 'Projects'))).toBe('/');
  });
  it('are known by the path below a project; a number is a run', () => {
    expect(roomAt('tests').name).toBe('Tests');
    expect(roomAt('41').name).toBe('Runs');
    expect(roomAt(undefined).name).toBe('Runs');
  });
  it('are shown to whom they are for', () => {
    const reader = places('p', [], false, () => false).map((p) => p.label);
    expect(reader).not.toContain('Audit');
    expect(reader).not.toContain('People');
    expect(places('p', [], true, may).map((p) => p.label)).toContain('People');
  });
  it('are found by their words, and runs by their number', () => {
    const list = places('tidewick', ['saltmarsh'], true, may);
    expect(found(list, 'flaky', 'tidewick').map((p) => p.to)).toEqual(['/tidewick/tests']);
    expect(found(list, 'salt', 'tidewick')[0]?.to).toBe('/saltmarsh');
    expect(found(list, '41', 'tidewick')[0]?.to).toBe('/tidewick/41');
    expect(found(list, '41', '')).toEqual([]);
    expect(found(list, 'no such place', 'tidewick')).toEqual([]);
  });
});
