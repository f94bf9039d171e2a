import type { Line } from './api/client';

/** Lines in one page of a log; the service gives up to 5000 at a time. */
export const pageSize = 1000;

/**
 * The part of a log that the browser has: pages of lines, fetched as they are looked at, and lines that came live.
 * Lines are numbered from 1. Immutable from outside: `version` changes with every change.
 */
export class LogModel {
  total = 0;
  complete = false;
  version = 0;
  private lines = new Map<number, (Line | undefined)[]>();
  private asked = new Set<number>();

  line(n: number): Line | undefined {
    return this.lines.get(Math.floor((n - 1) / pageSize))?.[(n - 1) % pageSize];
  }

  /** Adds lines, in whatever order they come; one that is there already changes nothing. */
  add(lines: Line[], total = 0) {
    for (const l of lines) {
      const page = Math.floor((l.n - 1) / pageSize);
      const list = this.lines.get(page) ?? [];
      list[(l.n - 1) % pageSize] ??= l;
      this.lines.set(page, list);
      this.total = Math.max(this.total, l.n);
    }
    this.total = Math.max(this.total, total);
    this.version++;
  }

  /** The first lines of the pages between two lines that must be fetched; each is named once. */
  missing(from: number, to: number): number[] {
    const pages: number[] = [];
    for (
      let page = Math.floor((Math.max(from, 1) - 1) / pageSize);
      page <= Math.floor((Math.min(to, this.total) - 1) / pageSize);
      page++
    ) {
      if (this.asked.has(page)) continue;
      const first = page * pageSize + 1;
      const last = Math.min(first + pageSize - 1, this.total);
      for (let n = first; n <= last; n++) {
        if (!this.line(n)) {
          this.asked.add(page);
          pages.push(first);
          break;
        }
      }
    }
    return pages;
  }

  /** Lets a page be asked for again, after it could not be had. */
  forget(first: number) {
    this.asked.delete(Math.floor((first - 1) / pageSize));
  }
}
