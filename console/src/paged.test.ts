import { describe, expect, it } from 'vitest';
import { nextAfter } from './paged';

const name = (v: { name: string }) => v.name;
const page = (...names: string[]) => names.map((n) => ({ name: n }));

describe('nextAfter', () => {
  it('is the last name of a page that is full', () => expect(nextAfter(page('a', 'b'), name, 2)).toBe('b'));
  it('is not there after a page that is not', () => {
    expect(nextAfter(page('a'), name, 2)).toBeUndefined();
    expect(nextAfter(page(), name, 2)).toBeUndefined();
  });
});
