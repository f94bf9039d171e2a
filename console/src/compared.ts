import type { LogComparison, LogDifference } from './api/client';

type Line = LogDifference['was'][number];

/** A line of both logs side by side, or how many that are the same are left out. */
export type Beside = { was?: Line; is?: Line; same: boolean; part: number } | { hidden: number; part: number };

/** Lays a comparison out, line beside line; of what differs the first beside the first. */
export function besides(d: LogComparison): Beside[] {
  return d.parts.flatMap((p, part): Beside[] => {
    if (p.hidden) return [{ hidden: p.hidden, part }];
    return Array.from({ length: Math.max(p.was.length, p.is.length) }, (_, i) => ({
      was: p.was[i],
      is: p.is[i],
      same: p.same,
      part,
    }));
  });
}

/** The parts that differ, by their numbers. */
export const differing = (d: LogComparison) => d.parts.flatMap((p, i) => (p.same ? [] : [i]));

/** What one ought to know of how the logs were compared. */
export function caveats(d: LogComparison): string[] {
  const cut = [d.was, d.is].filter((s) => s.from > 1);
  return [
    ...cut.map((s) => `Of run ${s.run} only what comes from line ${s.from} on was compared.`),
    ...(d.rough ? ['The logs differ in so much that less may differ than is shown.'] : []),
    ...(d.more ? ['More differs than is shown.'] : []),
  ];
}
