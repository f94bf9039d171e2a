// @vitest-environment jsdom
import { cleanup, screen, waitFor } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import { Route, Routes } from 'react-router';
import { afterEach, describe, expect, it, vi } from 'vitest';
import { serves } from '../parts/served';
import { shown } from '../parts/shown';
import Settings from './Settings';

vi.mock('../api/client', async (original) => (await import('../parts/served')).overServed(await original<object>()));

const of = '/api/v1/projects/{project}';
const project = { name: 'p', remote: 'https://git.tidewick.example/p', created: '', bot: {}, at_once: 2 };
const answers = { [`GET ${of}`]: project, [`GET ${of}/lendings`]: { to: ['shore'] }, [`PUT ${of}/hold`]: project };
const page = (role: string, administrator = false) =>
  shown(
    <Routes>
      <Route path="/:project/settings" element={<Settings />} />
    </Routes>,
    role,
    { at: '/p/settings', administrator },
  );

afterEach(cleanup);

describe('the settings of a project', () => {
  it('are changed by its keepers, one at a time', async () => {
    const asked = serves(answers);
    page('keeper');
    expect(await screen.findByText('at most 2')).toBeTruthy();
    expect(await screen.findByText('may be read by the jobs of shore')).toBeTruthy();
    await userEvent.click(screen.getByLabelText('Change: Its jobs'));
    await userEvent.type(screen.getByLabelText(/Why/), 'the depot moves');
    await userEvent.click(screen.getByRole('button', { name: 'Hold' }));
    await waitFor(() =>
      expect(asked).toContainEqual([
        'PUT',
        `${of}/hold`,
        { params: { path: { project: 'p' } }, body: { reason: 'the depot moves' } },
      ]),
    );
    expect(screen.queryByLabelText('Remove: The project')).toBeNull();
  });

  it('are only read by others', async () => {
    serves(answers);
    page('reader');
    await screen.findByText('at most 2');
    expect(screen.queryByRole('button')).toBeNull();
  });

  it('remove nothing that was not named', async () => {
    const asked = serves(answers);
    page('keeper', true);
    await userEvent.click(await screen.findByLabelText('Remove: The project'));
    await userEvent.type(screen.getByLabelText(/Its name/), 'q');
    await userEvent.click(screen.getByRole('button', { name: 'Remove' }));
    expect(await screen.findByText(/Nothing is removed/)).toBeTruthy();
    expect(asked.map((a) => (a as string[])[0])).not.toContain('DELETE');
    await userEvent.type(screen.getByLabelText(/Its name/), '{Backspace}p');
    await userEvent.click(screen.getByRole('button', { name: 'Remove' }));
    await waitFor(() => expect(asked).toContainEqual(['DELETE', of, { params: { path: { project: 'p' } } }]));
  });
});
