import { expect, test } from 'vitest';
import type { LedgerEntry } from './api/client';
import { characters, together } from './versions';

const entry = (more: Partial<LedgerEntry>): LedgerEntry => ({
  id: 1,
  app: 'almanac',
  platform: 'android',
  name: '1.5.0',
  build: 14,
  last_build: 14,
  named: true,
  run: 7,
  pipeline: 'release',
  commit: 'abc',
  why: '',
  state: 'kept',
  issued: '2026-11-26T12:00:00Z',
  ...more,
});

test('what a run was handed out is one line', () => {
  const lines = together([
    entry({ id: 4, platform: 'ios' }),
    entry({ id: 3 }),
    entry({ id: 2, run: 6, platform: 'ios', build: 9, last_build: 11, name: '1.4.0' }),
    entry({ id: 1, run: 6, name: '1.4.0', state: 'building' }),
  ]);
  expect(lines.map((l) => l.builds)).toEqual(['14 for Android and iOS', '14 for Android, 9–11 for iOS']);
  expect(lines.map((l) => l.states)).toEqual(['kept', 'kept, building']);
  expect(lines[0]?.entry.id).toBe(4);
});

test('two apps of one run are two lines', () => {
  expect(together([entry({}), entry({ id: 2, app: 'charts' })])).toHaveLength(2);
});

test('characters are counted as people see them in a text', () => {
  expect(characters('  Ebbe & Flut 🌊\r\nNeu\n')).toBe(17);
});
