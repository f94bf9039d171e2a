// @vitest-environment jsdom
import { cleanup, screen, waitFor } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import { afterEach, describe, expect, it, vi } from 'vitest';
import type { Bisection } from '../api/client';
import { FirstBad, searchWord } from './FirstBad';
import { serves } from './served';
import { shown } from './shown';

vi.mock('../api/client', async (original) => (await import('./served')).overServed(await original<object>()));

const list = '/api/v1/projects/{project}/runs/{number}/bisections';
const search: Bisection = {
  run: 9,
  job: 'core',
  state: 'searching',
  begun: '2026-12-01T10:00:00Z',
  good: 4,
  among: 7,
  left: 3,
  most: 2,
  suspects: [{ id: 'beefbeefbeef', subject: 'Sort by hand', author: 'Ines' }],
  tries: [
    { id: 'abcdabcdabcd', subject: 'Read tides', author: 'Ada', run: 10, verdict: 'passed' },
    { id: 'cdefcdefcdef', subject: 'Try it', author: 'Ada', verdict: 'unclear', why: 'it has no job core' },
    { id: 'dadadadadada', subject: 'Go on', author: 'Ada', run: 11 },
  ],
};

afterEach(cleanup);

describe('the search for the first bad change', () => {
  it('is told in words', () => {
    expect(searchWord(search)).toContain('3 of 7 may be it, at most 2 tries to come');
    expect(searchWord({ ...search, most: 1 })).toContain('at most 1 try to come');
    expect(searchWord({ ...search, state: 'chance' })).toContain('by chance');
    expect(searchWord({ ...search, state: 'unclear' })).toContain('one of 3 changes');
    expect(searchWord({ ...search, state: 'stopped', why: 'stopped by ada' })).toContain('(stopped by ada)');
  });

  it('is begun by whoever may start runs, when there is something to search among', async () => {
    const asked = serves({ [`GET ${list}`]: [], [`POST ${list}`]: search });
    shown(<FirstBad project="p" run={9} job="core" among={7} />, 'builder');
    await userEvent.click(await screen.findByText('Find the first bad of the 7'));
    await waitFor(() =>
      expect(asked).toContainEqual([
        'POST',
        list,
        { params: { path: { project: 'p', number: 9 } }, body: { job: 'core' } },
      ]),
    );
    cleanup();
    for (const [role, among] of [
      ['reader', 7],
      ['builder', 1],
    ] as const) {
      const asked = serves({ [`GET ${list}`]: [] });
      shown(<FirstBad project="p" run={9} job="core" among={among} />, role);
      await waitFor(() => expect(asked.length).toBeGreaterThan(0));
      expect(screen.queryByRole('button')).toBeNull();
      cleanup();
    }
  });

  it('shows each try, and is stopped', async () => {
    const asked = serves({ [`GET ${list}`]: [search] });
    shown(<FirstBad project="p" run={9} job="core" among={7} />, 'builder');
    await userEvent.click(await screen.findByText('3 tries'));
    expect(screen.getByText('run 10').getAttribute('href')).toBe('/p/10');
    expect(screen.getByText(': it has no job core')).toBeTruthy();
    expect(screen.getByText('… at work')).toBeTruthy();
    await userEvent.click(screen.getByText('Stop'));
    await waitFor(() => expect(asked.map((a) => (a as string[])[0])).toContain('DELETE'));
  });

  it('names what was found', async () => {
    serves({ [`GET ${list}`]: [{ ...search, state: 'found', left: 1 }] });
    shown(<FirstBad project="p" run={9} job="core" among={7} />, 'reader');
    expect((await screen.findByLabelText('What broke core')).textContent).toContain(
      'The first bad change of core: beefbeefb Sort by hand Ines',
    );
  });
});
