import { describe, expect, it } from 'vitest';
import { pieces } from './ansi';
import { ago, count, size, span } from './text';

describe('what people read', () => {
  it('writes spans', () => {
    expect([0, 999, 1000, 9_949, 10_000, 61_000, 3_600_000, 200_000_000].map(span)).toEqual([
      '0 ms',
      '999 ms',
      '1.0 s',
      '9.9 s',
      '10 s',
      '1 min 01 s',
      '1 h 00 min',
      '2 d 7 h',
    ]);
  });
  it('writes sizes and counts', () => {
    expect([0, 999, 1500, 2.5e6, 3e9].map(size)).toEqual(['0 B', '999 B', '1.5 kB', '2.5 MB', '3.00 GB']);
    expect([count(1, 'line'), count(200_000, 'line')]).toEqual(['1 line', '200,000 lines']);
  });
  it('writes how long ago', () => {
    const now = Date.parse('2026-01-02T00:00:00Z');
    expect(ago('2026-01-01T23:59:30Z', now)).toBe('just now');
    expect(ago('2026-01-01T23:30:00Z', now)).toBe('30 min ago');
    expect(ago('2026-01-01T14:00:00Z', now)).toBe('10 h ago');
  });
});

describe('colours of a log line', () => {
  it('shows no control sequences', () => {
    const read = (text: string) =>
      pieces(text)
        .map((p) => p.text)
        .join('');
    expect(
      read('\x1b]8;;http://a.example\x1b\\link\x1b]8;;\x1b\\ \x1b]0;title\x07\x1b(Bof\x1b[2K\x1b[?25l tide\x1b7'),
    ).toBe('link of tide');
    expect(read('\x1b]0;never ends')).toBe('0;never ends');
    expect(read('\x1b')).toBe('');
    expect(read('\x1b]a'.repeat(100_000))).toHaveLength(100_000);
  });

  it('leaves plain text alone, and takes stray control characters away', () => {
    expect(pieces('plain <b>text</b>')).toEqual([{ text: 'plain <b>text</b>', bold: false, faint: false }]);
    expect(pieces('bell\x07 and\x08 more')[0]?.text).toBe('bell and more');
  });
  it('reads the eight colours, bright ones and bold', () => {
    const list = pieces('a \x1b[31mred\x1b[0m \x1b[1;92mbold\x1b[0m');
    expect(list.map((p) => [p.text, p.colour, p.bold])).toEqual([
      ['a ', undefined, false],
      ['red', 1, false],
      [' ', undefined, false],
      ['bold', 10, true],
    ]);
  });
  it('never turns text into markup', () => {
    expect(pieces('\x1b[32m<img src=x onerror=alert(1)>\x1b[0m')[0]?.text).toBe('<img src=x onerror=alert(1)>');
  });
});
