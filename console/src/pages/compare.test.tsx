// @vitest-environment jsdom
import { cleanup, screen, waitFor } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import { Route, Routes } from 'react-router';
import { afterEach, describe, expect, it, vi } from 'vitest';
import type { LogComparison } from '../api/client';
import { serves } from '../parts/served';
import { shown } from '../parts/shown';
import Compare from './Compare';

vi.mock('../api/client', async (original) => (await import('../parts/served')).overServed(await original<object>()));

const run = '/api/v1/projects/{project}/runs/{number}';
const log = `${run}/jobs/{job}/log/against`;
const line = (n: number, x: string) => ({ n, x, s: 1, t: 0 });
const compared: LogComparison = {
  was: { run: 4, job: 'core', attempt: 1, state: 'passed', lines: 12, from: 1 },
  is: { run: 9, job: 'core', attempt: 1, state: 'failed', lines: 13, from: 3 },
  different: 2,
  rough: false,
  more: false,
  parts: [
    { same: true, hidden: 9, was: [], is: [] },
    { same: false, was: [line(10, 'reading 14 harbours')], is: [line(10, 'reading 15 harbours')] },
    { same: true, was: [line(11, 'done')], is: [line(11, 'done')] },
    { same: false, was: [], is: [line(12, 'no tide for Saltmarsh')] },
  ],
};
const detail = { jobs: [{ name: 'lint' }, { name: 'core' }], failure: { job: 'core' } };
const wide = (is: boolean) =>
  vi.stubGlobal('matchMedia', () => ({ matches: is, addEventListener() {}, removeEventListener() {} }));
const page = (search = '') =>
  shown(
    <Routes>
      <Route path="/:project/:number/against/:other" element={<Compare />} />
    </Routes>,
    'reader',
    { at: `/p/9/against/4${search}` },
  );
const rows = () => [...screen.getByLabelText('Both logs').querySelectorAll('tbody tr')].map((r) => r.textContent);
const asks = (job: string) => ['GET', log, { params: { path: { project: 'p', number: 9, job }, query: { run: 4 } } }];

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

describe('two logs beside each other', () => {
  it('are those of the job that failed, unless another is meant', async () => {
    wide(true);
    const asked = serves({ [`GET ${run}`]: detail, [`GET ${log}`]: compared });
    page();
    expect(await screen.findByText(/2 lines differ, times, hashes and the like left out/)).toBeTruthy();
    expect(asked).toContainEqual(asks('core'));
    cleanup();
    const other = serves({ [`GET ${run}`]: detail, [`GET ${log}`]: compared });
    page('?job=lint');
    await waitFor(() => expect(other).toContainEqual(asks('lint')));
    expect(other).not.toContainEqual(asks('core'));
  });

  it('stand beside each other where there is room, and below each other where there is none', async () => {
    serves({ [`GET ${run}`]: detail, [`GET ${log}`]: compared });
    wide(true);
    page();
    await screen.findByText(/2 lines differ/);
    expect(rows()).toEqual([
      '9 lines are the same',
      '10− reading 14 harbours10+ reading 15 harbours',
      '11done11done',
      '12+ no tide for Saltmarsh',
    ]);
    cleanup();
    wide(false);
    page();
    await screen.findByText(/2 lines differ/);
    expect(rows()).toEqual([
      '9 lines are the same',
      '10− reading 14 harbours',
      '10+ reading 15 harbours',
      '11done',
      '12+ no tide for Saltmarsh',
    ]);
  });

  it('are walked from difference to difference, and not beyond the last', async () => {
    wide(true);
    serves({ [`GET ${run}`]: detail, [`GET ${log}`]: compared });
    const seen: (string | null)[] = [];
    Element.prototype.scrollIntoView = function (this: Element) {
      seen.push(this.textContent);
    };
    page();
    const next = await screen.findByRole('button', { name: 'Next difference' });
    await waitFor(() => expect(next).toHaveProperty('disabled', false));
    await userEvent.keyboard('nnnN');
    expect(seen.map((t) => t?.slice(0, 2))).toEqual(['10', '12', '12', '10']);
  });

  it('say what was left out, and that nothing differs', async () => {
    wide(true);
    serves({ [`GET ${run}`]: detail, [`GET ${log}`]: { ...compared, rough: true, different: 0, parts: [] } });
    page();
    expect(await screen.findByText('nothing differs but times, hashes and the like')).toBeTruthy();
    expect(screen.getByText('Of run 9 only what comes from line 3 on was compared.')).toBeTruthy();
    expect(screen.getByText(/less may differ than is shown/)).toBeTruthy();
    expect(screen.getByRole('button', { name: 'Next difference' })).toHaveProperty('disabled', true);
  });
});
