/** Messages between a terminal and a shell on another machine: a byte that says what it is, and what belongs to it. */

export type Heard =
  | { kind: 'data'; bytes: Uint8Array }
  | { kind: 'word'; text: string }
  | { kind: 'over'; why: string; code: number | undefined }
  | { kind: 'other' };

const maxData = 32 << 10;
const text = new TextEncoder();

const message = (kind: string, body: Uint8Array): Uint8Array<ArrayBuffer> => {
  const m = new Uint8Array(body.length + 1);
  m[0] = kind.charCodeAt(0);
  m.set(body, 1);
  return m;
};

/** What is typed, in as many messages as it takes. */
export function typed(what: string): Uint8Array<ArrayBuffer>[] {
  const bytes = text.encode(what);
  const list: Uint8Array<ArrayBuffer>[] = [];
  for (let at = 0; at < bytes.length; at += maxData) list.push(message('d', bytes.subarray(at, at + maxData)));
  return list;
}

/** The terminal is of another size. */
export const sized = (cols: number, rows: number) =>
  message('r', new Uint8Array([cols >> 8, cols & 255, rows >> 8, rows & 255]));

/** So many bytes were shown. */
export const taken = (n: number) =>
  message('t', new Uint8Array([n >>> 24, (n >>> 16) & 255, (n >>> 8) & 255, n & 255]));

/** Somebody is there. */
export const beat = () => message('b', new Uint8Array(0));

/** Reads a message. */
export function heard(m: ArrayBuffer): Heard {
  const bytes = new Uint8Array(m);
  const body = bytes.subarray(1);
  switch (String.fromCharCode(bytes[0] ?? 0)) {
    case 'd':
      return { kind: 'data', bytes: body };
    case 'w':
      return { kind: 'word', text: new TextDecoder().decode(body) };
    case 'x': {
      const end = JSON.parse(new TextDecoder().decode(body)) as { why?: string; code?: number };
      return { kind: 'over', why: end.why ?? '', code: end.code };
    }
    default:
      return { kind: 'other' };
  }
}

/** One moment of a recording: after so many milliseconds, what was shown, or the terminal's size. */
export interface Moment {
  at: number;
  shows?: string;
  size?: [number, number];
}

/** Reads a recording (asciicast v2). Nobody waits for longer than pause, in milliseconds; the size it begins with is
 * the first moment's. */
export function recorded(cast: string, pause: number): Moment[] {
  const lines = cast.split('\n').filter(Boolean);
  const head = JSON.parse(lines[0] ?? '{}') as { width?: number; height?: number };
  const list: Moment[] = [{ at: 0, size: [head.width ?? 80, head.height ?? 24] }];
  let last = 0;
  let now = 0;
  for (const line of lines.slice(1)) {
    const [at, kind, data] = JSON.parse(line) as [number, string, string];
    now += Math.min(Math.max(0, at * 1000 - last), pause);
    last = at * 1000;
    const [cols, rows] = data.split('x').map(Number);
    if (kind === 'o') list.push({ at: now, shows: data });
    if (kind === 'r' && cols && rows) list.push({ at: now, size: [cols, rows] });
  }
  return list;
}
