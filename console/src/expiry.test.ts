import { expect, test } from 'vitest';
import { expiry, forRuns, globs } from './expiry';

test('what expires is told two weeks before', () => {
  const now = Date.parse('2026-11-25T00:00:00Z');
  expect(expiry(undefined, now)).toEqual({ text: 'never', soon: false, over: false });
  expect(expiry('2027-01-31T00:00:00Z', now)).toEqual({ text: '2027-01-31', soon: false, over: false });
  expect(expiry('2026-12-05T00:00:00Z', now)).toEqual({ text: '2026-12-05, in 10 days', soon: true, over: false });
  expect(expiry('2026-11-24T00:00:00Z', now)).toEqual({ text: 'expired 2026-11-24', soon: true, over: true });
});

test('which runs a secret is for', () => {
  expect(forRuns({})).toBe('any run');
  expect(forRuns({ pipelines: ['release'], branches: [], tags: ['v*', 'x'] })).toBe('pipeline release; tag v*, x');
  expect(globs(' main, release/*  x ')).toEqual(['main', 'release/*', 'x']);
});
