import type { LedgerEntry } from './api/client';

export const platforms = { android: 'Android', ios: 'iOS' } as const;

/** What one run was handed out for an app, on all its platforms. */
export interface Handed {
  key: string;
  /** The newest of its entries; name, run and app are those of all. */
  entry: LedgerEntry;
  /** The platforms and build numbers, such as "Android, iOS 14" or "Android 14, iOS 9". */
  builds: string;
  states: string;
}

const numbers = (e: LedgerEntry) => (e.last_build > e.build ? `${e.build}–${e.last_build}` : String(e.build));

const distinct = (words: string[]) => [...new Set(words)];

/** Puts entries that one run was handed out for an app into one line. Their order stays. */
export function together(entries: LedgerEntry[]): Handed[] {
  const lines = new Map<string, LedgerEntry[]>();
  for (const e of entries) {
    const key = `${e.run}/${e.app}/${e.name}/${e.state === 'void' ? e.id : ''}`;
    lines.set(key, [...(lines.get(key) ?? []), e]);
  }
  return [...lines].flatMap(([key, list]) => {
    const [entry] = list;
    if (!entry) return [];
    return [{ key, entry, builds: shownBuilds(list), states: distinct(list.map((e) => e.state)).join(', ') }];
  });
}

function shownBuilds(list: LedgerEntry[]): string {
  const sorted = [...list].sort((a, b) => a.platform.localeCompare(b.platform));
  const same = distinct(sorted.map(numbers));
  if (same.length === 1) return `${same.join('')} for ${sorted.map((e) => platforms[e.platform]).join(' and ')}`;
  return sorted.map((e) => `${numbers(e)} for ${platforms[e.platform]}`).join(', ');
}

/** How many characters stores count in a text: what is around it is cut off. */
export const characters = (text: string) => [...text.replace(/\r\n?/g, '\n').trim()].length;
