import { describe, expect, it } from 'vitest';
import { grown, loads, pieceAt, pieces, tiles } from './sizes';
import { size } from './text';

const parts = [
  { group: 'native', path: 'lib/arm64-v8a/libtide.so', packed: 600 },
  { group: 'native', path: 'lib/x86_64/libtide.so', packed: 200 },
  { group: 'assets', path: 'assets/a.bin', packed: 150 },
  { group: 'assets', path: '', packed: 50 },
];

describe('what a package is made of', () => {
  it('is walked into by group and folder', () => {
    const top = pieces(parts, '');
    expect(top.bytes).toBe(1000);
    expect(top.inside.map((i) => [i.name, i.bytes])).toEqual([
      ['native', 800],
      ['assets', 200],
    ]);
    expect(pieceAt(top, ['native', 'lib', 'x86_64']).bytes).toBe(200);
    expect(pieceAt(top, ['native', 'gone']).name).toBe('native');
    expect(pieceAt(top, ['assets', 'the rest']).bytes).toBe(50);
  });

  it('is loaded by each processor, by the screen more or less', () => {
    const list = [
      { processor: 'arm64-v8a', size: 4000 },
      { processor: 'arm64-v8a', size: 9000 },
      { processor: 'x86_64', size: 5000 },
      { size: 7000 },
    ];
    expect(loads(list, size)).toEqual(['arm64-v8a 4.0 kB to 9.0 kB', 'x86_64 5.0 kB', '7.0 kB']);
  });

  it('fills the whole area, each tile as large as its bytes', () => {
    const all = tiles(pieces(parts, ''), 2);
    expect(all.map((t) => t.piece.name)).toEqual(['native', 'assets']);
    const area = all.map((t) => (t.width * t.height) / 100);
    expect(area[0]).toBeCloseTo(80);
    expect(area[1]).toBeCloseTo(20);
    for (const t of all) {
      expect(t.left + t.width).toBeLessThanOrEqual(100.001);
      expect(t.top + t.height).toBeLessThanOrEqual(100.001);
    }
  });

  it('says by how much it has grown', () => {
    expect(grown(1000, 1500, size)).toBe('+500 B, +50.0 %');
    expect(grown(1500, 1000, size)).toBe('−500 B, −33.3 %');
    expect(grown(76, 14_100, size)).toBe('+14.0 kB, 186 times as much');
    expect([grown(0, 5, size), grown(5, 0, size), grown(5, 5, size)]).toEqual(['new', 'gone', 'the same']);
  });
});
