// @vitest-environment jsdom
import { cleanup, screen, waitFor } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import { Route, Routes } from 'react-router';
import { afterEach, describe, expect, it, vi } from 'vitest';
import { serves } from '../parts/served';
import { shown } from '../parts/shown';
import CausePage from './Cause';
import Causes from './Causes';

vi.mock('../api/client', async (original) => (await import('../parts/served')).overServed(await original<object>()));

const all = '/api/v1/causes';
const failures = '/api/v1/projects/{project}/failures';
const catalogue = Array.from({ length: 45 }, (_, i) => ({
  name: `cause-${i}`,
  title: `Cause ${i}`,
  means: 'Something is missing.',
  do: i === 44 ? 'Bring the lanterns.' : 'Add it.',
  examples: i === 3 ? ['E: no lantern 3'] : undefined,
}));
const page = (at: string) =>
  shown(
    <Routes>
      <Route path="/-/causes" element={<Causes />} />
      <Route path="/-/causes/:name" element={<CausePage />} />
      <Route path="/:project/failures/:name" element={<CausePage />} />
      <Route path="/:project/failures" element={<p>all failures</p>} />
    </Routes>,
    'reader',
    { at },
  );
const named = () => screen.getAllByRole('link').map((l) => l.textContent);

afterEach(cleanup);

describe('the catalogue of causes', () => {
  it('shows some at first, and all when asked', async () => {
    serves({ [`GET ${all}`]: catalogue });
    page('/-/causes');
    const more = await screen.findByRole('button', { name: 'The other 5, too' });
    expect(named()).toHaveLength(40);
    await userEvent.click(more);
    expect(named()).toHaveLength(45);
    expect(screen.queryByRole('button')).toBeNull();
  });

  it('is searched in all that is said of a cause', async () => {
    serves({ [`GET ${all}`]: catalogue });
    page('/-/causes');
    const words = await screen.findByLabelText('With the words');
    await screen.findByText('Cause 0');
    for (const [text, found] of [
      ['LANTERNS', 'Cause 44'],
      ['no lantern 3', 'Cause 3'],
      ['cause-17', 'Cause 17'],
    ] as const) {
      await userEvent.clear(words);
      await userEvent.type(words, text);
      expect(named()).toEqual([found]);
    }
    await userEvent.type(words, ' nowhere');
    expect(screen.getByText('No cause with that in it.')).toBeTruthy();
  });
});

describe('one cause', () => {
  const seen = {
    job: 'core',
    step: 'compile',
    said: 'E: no lantern 3',
    times: 4,
    first: '2026-11-01T10:00:00Z',
    first_run: 2,
    last: '2026-11-20T10:00:00Z',
    last_run: 31,
    gone: { run: 32, subject: 'Light the pier' },
  };

  it('says what it means, and where it was seen in a project', async () => {
    const asked = serves({ [`GET ${all}`]: catalogue, [`GET ${failures}`]: { failures: [seen] } });
    page('/p/failures/cause-3');
    expect(await screen.findByRole('heading', { name: /^Cause 3/ })).toBeTruthy();
    expect(await screen.findByText('4 ×')).toBeTruthy();
    expect(screen.getByText('core › compile')).toBeTruthy();
    expect(screen.getByRole('link', { name: 'run 31' }).getAttribute('href')).toBe('/p/31');
    expect(screen.getByText(/Light the pier/)).toBeTruthy();
    const query = { cause: 'cause-3', limit: 50 };
    expect(asked).toContainEqual(['GET', failures, { params: { path: { project: 'p' }, query } }]);
    await userEvent.keyboard('u');
    expect(await screen.findByText('all failures')).toBeTruthy();
  });

  it('of a team is told by the project that has it', async () => {
    serves({ [`GET ${all}`]: catalogue, [`GET ${failures}`]: { failures: [{ ...seen, title: 'A wet gauge' }] } });
    page('/p/failures/wet-gauge');
    expect(await screen.findByRole('heading', { name: /^A wet gauge/ })).toBeTruthy();
    expect(screen.getByText(/described it in its file piston\/causes\.toml/)).toBeTruthy();
  });

  it('that nobody knows is said to be none', async () => {
    const asked = serves({ [`GET ${all}`]: catalogue });
    page('/-/causes/nothing');
    expect(await screen.findByText('No cause is called that.')).toBeTruthy();
    await waitFor(() => expect(asked).toHaveLength(1));
  });
});
