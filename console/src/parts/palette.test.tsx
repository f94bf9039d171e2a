// @vitest-environment jsdom
import { cleanup, screen, waitFor } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import { useLocation } from 'react-router';
import { afterEach, describe, expect, it, vi } from 'vitest';
import { Palette } from './Palette';
import { serves } from './served';
import { shown } from './shown';

vi.mock('../api/client', async (original) => (await import('./served')).overServed(await original<object>()));

const Where = () => <p data-testid="where">{useLocation().pathname}</p>;
const palette = async (project: string) => {
  serves({ 'GET /api/v1/projects': [{ name: 'p' }, { name: 'saltmarsh' }] });
  const close = vi.fn();
  shown(
    <>
      <Palette open close={close} project={project} />
      <Where />
    </>,
    'reader',
  );
  await waitFor(() => expect(screen.getAllByRole('option').length).toBeGreaterThan(0));
  await screen.findByText('saltmarsh');
  return close;
};
const where = () => screen.getByTestId('where').textContent;

afterEach(cleanup);

describe('going anywhere by a few letters', () => {
  it('goes to a room of the project, a run by its number, another project', async () => {
    for (const [typed, to] of [
      ['fail', '/p/failures'],
      ['42', '/p/42'],
      ['saltm', '/saltmarsh'],
    ] as const) {
      const close = await palette('p');
      await userEvent.keyboard(`${typed}{Enter}`);
      expect(where()).toBe(to);
      expect(close).toHaveBeenCalledOnce();
      cleanup();
    }
  });

  it('goes nowhere by what is nothing', async () => {
    await palette('p');
    await userEvent.keyboard('no such place');
    expect(screen.getByText('Nothing of that name.')).toBeTruthy();
    await userEvent.keyboard('{Enter}');
    expect(where()).toBe('/');
  });
});
