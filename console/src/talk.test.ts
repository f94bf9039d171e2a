import { describe, expect, it } from 'vitest';
import { beat, heard, recorded, sized, taken, typed } from './talk';

const bytes = (m: Uint8Array | undefined) => [...(m ?? [])];
const said = (s: string) => new TextEncoder().encode(s).buffer;

describe('messages of a shell', () => {
  it('are a byte, and what belongs to it', () => {
    expect(typed('ls\r').map(bytes)).toEqual([[100, 108, 115, 13]]);
    expect(typed('')).toEqual([]);
    expect(bytes(sized(300, 24))).toEqual([114, 1, 44, 0, 24]);
    expect(bytes(taken(70_000))).toEqual([116, 0, 1, 17, 112]);
    expect(bytes(beat())).toEqual([98]);
  });

  it('are cut where they are too long', () => {
    const list = typed('é'.repeat(40_000));
    expect(list.map((m) => m.length)).toEqual([32_769, 32_769, 14_465]);
  });

  it('are read', () => {
    expect(heard(said('dhi'))).toEqual({ kind: 'data', bytes: new Uint8Array([104, 105]) });
    expect(heard(said('wsoon'))).toEqual({ kind: 'word', text: 'soon' });
    expect(heard(said('x{"code":3}'))).toEqual({ kind: 'over', why: '', code: 3 });
    expect(heard(said('x{"why":"gone"}'))).toEqual({ kind: 'over', why: 'gone', code: undefined });
    expect(heard(said('b'))).toEqual({ kind: 'other' });
    expect(heard(said(''))).toEqual({ kind: 'other' });
  });
});

describe('a recording', () => {
  const cast = '{"version":2,"width":100,"height":30}\n[0.5,"o","a"]\n[60,"r","90x20"]\n[61,"o","b"]\n[61,"i","x"]\n';
  it('is played without long pauses', () => {
    expect(recorded(cast, 1500)).toEqual([
      { at: 0, size: [100, 30] },
      { at: 500, shows: 'a' },
      { at: 2000, size: [90, 20] },
      { at: 3000, shows: 'b' },
    ]);
  });
  it('may be empty', () => {
    expect(recorded('', 1)).toEqual([{ at: 0, size: [80, 24] }]);
  });
});
