// @vitest-environment jsdom
import { cleanup, fireEvent, screen, waitFor, within } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import { afterEach, describe, expect, it, vi } from 'vitest';
import { Wishes } from './Wishes';
import { serves } from './served';
import { shown } from './shown';

vi.mock('../api/client', async (original) => (await import('./served')).overServed(await original<object>()));

const at = '/api/v1/wishes';
const choices = ['broke', 'mended', 'released'].map((kind) => ({ kind, means: `what ${kind}` }));
const wishes = {
  choices,
  wishes: [
    { kinds: ['released'], unasked: true },
    { project: 'p', kinds: ['broke'] },
  ],
};
const bodies = (asked: unknown[]) =>
  asked.flatMap((a) => {
    const [method, , init] = a as [string, string, { body: unknown }];
    return method === 'PUT' ? [init.body] : [];
  });

afterEach(cleanup);

describe('what one is told of by mail', () => {
  it('keeps all that is chosen at once', async () => {
    const asked = serves({ [`GET ${at}`]: wishes, [`PUT ${at}`]: wishes });
    shown(<Wishes />, 'reader');
    const all = within(await screen.findByRole('group', { name: 'All projects' }));
    fireEvent.click(all.getByLabelText('what broke'));
    fireEvent.click(all.getByLabelText('what mended'));
    fireEvent.click(all.getByLabelText('what released'));
    await waitFor(() =>
      expect(bodies(asked)).toEqual([
        { kinds: ['released', 'broke'] },
        { kinds: ['released', 'broke', 'mended'] },
        { kinds: ['broke', 'mended'] },
      ]),
    );
  });

  it('is otherwise of a project, and taken back', async () => {
    const asked = serves({ [`GET ${at}`]: wishes, [`PUT ${at}`]: wishes });
    shown(<Wishes />, 'reader');
    const one = within(await screen.findByRole('group', { name: 'p' }));
    expect(screen.getByText('as nobody chose')).toBeTruthy();
    expect(screen.getAllByText('Take back')).toHaveLength(1);
    await userEvent.click(one.getByRole('button', { name: 'Take back' }));
    await waitFor(() => expect(asked).toContainEqual(['DELETE', at, { params: { query: { project: 'p' } } }]));
    await userEvent.type(screen.getByLabelText('Otherwise of the project'), ' q ');
    await userEvent.click(screen.getByRole('button', { name: 'Choose' }));
    await waitFor(() => expect(bodies(asked)).toEqual([{ project: 'q', kinds: ['released'] }]));
  });
});
