// @vitest-environment jsdom
import { QueryClient, QueryClientProvider } from '@tanstack/react-query';
import { cleanup, render, screen } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import { afterEach, describe, expect, it, vi } from 'vitest';
import type { Gate } from '../api/client';
import { gateWord, whoReads } from '../gates';
import { GatePanel } from './GatePanel';

const now = Date.parse('2026-07-01T12:00:00Z');
const gate = (change: object = {}): Gate => ({
  id: 7,
  project: 'tidewick',
  run: 12,
  pipeline: 'release',
  job: 'go',
  question: 'Publish 1.4.0?',
  who: ['keeper', 'group:shore', 'person:ada'],
  count: 2,
  asked: '2026-07-01T10:00:00Z',
  until: '2026-07-01T15:00:00Z',
  answers: [{ by: 'ben', yes: true, at: '2026-07-01T11:00:00Z', comment: 'looks well' }],
  ...change,
});

const asked = vi.hoisted(() => [] as unknown[]);
vi.mock('../api/client', async (original) => ({
  ...(await original()),
  api: {
    POST: async (path: string, init: unknown) => {
      asked.push([path, init]);
      return { error: { detail: 'somebody has said no' }, response: new Response(null, { status: 422 }) };
    },
  },
}));

afterEach(cleanup);

const shown = (g: Gate) =>
  render(
    <QueryClientProvider client={new QueryClient()}>
      <GatePanel gate={g} now={now} />
    </QueryClientProvider>,
  );

describe('what people are asked', () => {
  it('is told in words', () => {
    expect(whoReads(gate().who)).toBe('any keeper or group shore or ada');
    expect(gateWord(gate(), now)).toBe('1 of 2 said yes; 3 h 00 min left, then the run ends');
    expect(gateWord(gate({ unanswered: 'skip' }), now)).toContain('then what follows is skipped');
    expect(gateWord(gate({ outcome: 'yes' }), now)).toBe('yes by ben');
    expect(gateWord(gate({ outcome: 'unanswered' }), now)).toBe('its time is over: 1 of 2 said yes');
  });

  it('is answered with a comment, and says what the service refuses', async () => {
    shown(gate());
    await userEvent.keyboard('a');
    await userEvent.keyboard('fine by me');
    await userEvent.click(screen.getByRole('button', { name: 'Yes, too' }));
    expect(await screen.findByRole('alert')).toHaveProperty('textContent', 'somebody has said no');
    expect(asked).toEqual([
      [
        '/api/v1/projects/{project}/gates/{id}/answer',
        { params: { path: { project: 'tidewick', id: 7 } }, body: { yes: true, comment: 'fine by me' } },
      ],
    ]);
  });

  it('offers nothing to whoever may not answer, and says why', () => {
    shown(gate({ may_not: 'this is for any keeper to answer' }));
    expect(screen.queryByRole('button')).toBeNull();
    expect(screen.getByText('this is for any keeper to answer.')).toBeTruthy();
    expect(screen.getByText(/looks well/)).toBeTruthy();
  });
});
