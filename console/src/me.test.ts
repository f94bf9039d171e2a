import { expect, test } from 'vitest';
import { may } from './me';

test('a role holds the ones before it, in its project or in every one', () => {
  const me = { name: 'ada', administrator: false, roles: { tides: 'builder', '*': 'reader' } };
  expect(may(me, 'builder', 'tides')).toBe(true);
  expect(may(me, 'keeper', 'tides')).toBe(false);
  expect(may(me, 'reader', 'charts')).toBe(true);
  expect(may(me, 'builder', 'charts')).toBe(false);
  expect(may({ ...me, roles: {} }, 'reader', 'tides')).toBe(false);
});
