const day = 24 * 3600 * 1000;

/** When something ceases to be good, and whether that is soon: two weeks before, and after. */
export function expiry(at: string | undefined, now = Date.now()): { text: string; soon: boolean; over: boolean } {
  if (!at) return { text: 'never', soon: false, over: false };
  const left = Date.parse(at) - now;
  const date = at.slice(0, 10);
  if (left <= 0) return { text: `expired ${date}`, soon: true, over: true };
  if (left < 14 * day) return { text: `${date}, in ${Math.floor(left / day)} days`, soon: true, over: false };
  return { text: date, soon: false, over: false };
}

interface Scope {
  pipelines?: string[];
  branches?: string[];
  tags?: string[];
}

/** Which runs a secret is given to, in words. */
export function forRuns(s: Scope): string {
  const parts = (
    [
      ['pipeline', s.pipelines],
      ['branch', s.branches],
      ['tag', s.tags],
    ] as const
  )
    .filter(([, globs]) => globs && globs.length > 0)
    .map(([word, globs]) => `${word} ${globs?.join(', ')}`);
  return parts.length ? parts.join('; ') : 'any run';
}

/** Globs as they are typed: with commas or spaces between. */
export const globs = (text: string) => text.split(/[\s,]+/).filter(Boolean);
