import { expect, test } from 'vitest';
import { changeText } from './audit';

test('an act is told without what says nothing', () => {
  expect(changeText(null, { pipeline: 'trunk', tag: '', branch: 'main', inputs: {}, commit: 'a'.repeat(40) })).toBe(
    'pipeline trunk, branch main, commit aaaaaaa',
  );
  expect(changeText({ reason: 'the depot is moved' }, { reason: '' })).toBe('reason the depot is moved → nothing');
  expect(changeText({ at_once: 0 }, { at_once: 4 })).toBe('at_once 0 → at_once 4');
  expect(changeText({ expires: '2027-02-08T00:00:00Z' }, { expires: '2027-02-08T08:30:00Z' })).toBe(
    'expires 2027-02-08 → expires 2027-02-08T08:30:00Z',
  );
  expect(changeText(['a'], ['a', 'b'])).toBe('a → a, b');
  expect(changeText(undefined, undefined)).toBe('');
});
