/** Lines of a step that are shown as one row. */
export interface Fold {
  name: string;
  from: number;
  to: number;
}

/** What one row shows: a line, or a step that is folded, whole. */
export type Row = { line: number; fold?: undefined } | { line: number; fold: Fold };

/** A fold, and which of its lines are in the part that is shown. */
interface Jump {
  row: number;
  from: number;
  to: number;
  fold: Fold;
}

/** A browser draws nothing that is higher than some ten million pixels: of a longer log a part is shown at a time. */
export const mostShown = 400_000;

/** The first line of the part of a log that a line is in. */
export const partOf = (line: number) => Math.floor((Math.max(line, 1) - 1) / mostShown) * mostShown + 1;

/** Which rows a part of a log has: its lines, but for the steps that are folded, which have one each. */
export class Visible {
  readonly first: number;
  readonly last: number;
  readonly count: number;
  private jumps: Jump[] = [];

  constructor(total: number, part: number, folds: Fold[]) {
    this.first = part;
    this.last = Math.min(total, part + mostShown - 1);
    let skipped = 0;
    for (const f of [...folds].sort((a, b) => a.from - b.from)) {
      const from = Math.max(f.from, this.first);
      const to = Math.min(f.to, this.last);
      const before = this.jumps.at(-1);
      if (to <= from || (before && from <= before.to)) continue;
      this.jumps.push({ row: from - this.first - skipped, from, to, fold: f });
      skipped += to - from;
    }
    this.count = Math.max(0, this.last - this.first + 1 - skipped);
  }

  /** What a row shows. */
  row(index: number): Row {
    const jump = this.jumps.findLast((j) => j.row <= index);
    if (!jump) return { line: this.first + index };
    if (jump.row === index) return { line: jump.from, fold: jump.fold };
    return { line: jump.to + index - jump.row };
  }

  /** In which row a line is, or the fold that hides it. */
  rowOf(line: number): number {
    const jump = this.jumps.findLast((j) => j.from <= line);
    if (!jump) return line - this.first;
    if (line <= jump.to) return jump.row;
    return jump.row + line - jump.to;
  }
}

/** Reads which lines an address marks, such as 7 or 7-12; undefined where it marks none. */
export function rangeOf(text: string | null): { line: number; to: number } | undefined {
  const [, from, to] = /^(\d{1,9})(?:-(\d{1,9}))?$/.exec(text ?? '') ?? [];
  const line = Number(from);
  if (!line) return undefined;
  return { line, to: Math.max(line, Number(to ?? line)) };
}

/** Writes them. */
export const rangeText = (line: number, to: number) => (to > line ? `${line}-${to}` : String(line));
