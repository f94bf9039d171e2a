// @vitest-environment jsdom
import { cleanup, screen, waitFor } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import { afterEach, describe, expect, it, vi } from 'vitest';
import type { Stay } from '../api/client';
import { serves } from './served';
import { shown } from './shown';
import { LookAround, stayWord, StayLine } from './Stays';

const now = Date.parse('2026-12-01T10:00:00Z');
const stay: Stay = {
  project: 'p',
  run: 7,
  job: 'core',
  attempt: 1,
  ended: 'failed',
  runner: 'attic',
  state: 'stays',
  minutes: 15,
  until: '2026-12-01T10:12:00Z',
  shells: 0,
};

const stayPath = '/api/v1/projects/{project}/runs/{number}/jobs/{job}/stay';
const of = { path: { project: 'p', number: 7, job: 'core' } };

vi.mock('../api/client', async (original) => (await import('./served')).overServed(await original<object>()));

afterEach(cleanup);

describe('a workspace that stays', () => {
  it('says for how long, and who is in it', () => {
    expect(stayWord(stay, now)).toBe('stays for 12 min more');
    expect(stayWord({ ...stay, shells: 2 }, now)).toBe('stays for 12 min more, 2 shells open');
    expect(stayWord({ ...stay, until: '2026-12-01T15:00:00Z' }, now)).toBe('stays for 5.0 h more');
    expect(stayWord({ ...stay, state: 'asked', until: undefined }, now)).toBe(
      'stays for 15 min once its job has ended',
    );
    expect(stayWord({ ...stay, state: 'over', why: 'its time is over' }, now)).toContain('its time is over');
  });

  it('can be entered and let go by whoever may start runs', async () => {
    const asked = serves({ 'GET /api/v1/stays': [stay] });
    shown(<StayLine of={stay} />, 'builder');
    expect(screen.getByText('Look around').getAttribute('href')).toBe('/p/7/shell/core');
    await userEvent.click(screen.getByText('Let go'));
    await waitFor(() => expect(asked).toContainEqual(['DELETE', stayPath, { params: of }]));
    await userEvent.click(screen.getByText('15 min from now'));
    await waitFor(() => expect(asked).toContainEqual(['PUT', stayPath, { params: of, body: { minutes: 15 } }]));
  });

  it('is only told of to others', () => {
    serves({});
    shown(<StayLine of={stay} />, 'reader');
    expect(screen.queryByText('Look around')).toBeNull();
    expect(screen.queryByText('Let go')).toBeNull();
  });

  it('is led into from the job that failed, and from no other', async () => {
    serves({ 'GET /api/v1/stays': [stay] });
    shown(<LookAround project="p" run={7} job="core" />, 'builder');
    await screen.findByText('Look around');
    cleanup();
    const asked = serves({ 'GET /api/v1/stays': [stay] });
    shown(<LookAround project="p" run={8} job="core" />, 'builder');
    await waitFor(() => expect(asked.length).toBeGreaterThan(0));
    expect(screen.queryByText('Look around')).toBeNull();
  });
});
