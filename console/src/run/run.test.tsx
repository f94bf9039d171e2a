// @vitest-environment jsdom
import { QueryClient, QueryClientProvider } from '@tanstack/react-query';
import { act, cleanup, render, renderHook, screen, within } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import type { ReactNode } from 'react';
import { MemoryRouter, useLocation } from 'react-router';
import { afterEach, describe, expect, it, vi } from 'vitest';
import type { Job, RunDetail } from '../api/client';
import { MeContext } from '../me';
import { Notes } from '../parts/Notes';
import Markdown from '../parts/Markdown';
import { plainEnough } from './bounds';
import { RunHead } from './RunHead';
import { useActs } from './useActs';
import { useNow } from './useNow';
import { usePlace } from './usePlace';
import { firstPlace, notesOf, why, whyNoLog } from './words';

afterEach(cleanup);

const step = (name: string, first_line = 0, note?: string) => ({ name, state: 'passed', first_line, note });

function runOf(change: object = {}): RunDetail {
  return {
    project: 'tidewick',
    number: 7,
    pipeline: 'trunk',
    state: 'passed',
    subject: 'Draw the tide',
    commit: '0123456789abcdef',
    trigger: 'push',
    author: 'Ada',
    queued: '2026-01-01T00:00:00Z',
    now: '2026-01-01T00:01:00Z',
    finished: '2026-01-01T00:00:09Z',
    jobs: [
      { name: 'core', state: 'passed', attempt: 1, steps: [step('fetch', 1), step('test', 40)] },
      { name: 'android', state: 'passed', attempt: 2, steps: [step('package', 3)] },
    ],
    ...change,
  } as unknown as RunDetail;
}

describe('where a run is looked at', () => {
  let address = '';
  const Address = () => {
    const at = useLocation();
    address = at.pathname + at.search;
    return null;
  };
  const at = (start: string, run: RunDetail | undefined) =>
    renderHook(() => usePlace(run), {
      wrapper: ({ children }: { children: ReactNode }) => (
        <MemoryRouter initialEntries={[start]}>
          <Address />
          {children}
        </MemoryRouter>
      ),
    });

  it('begins with what failed, else with what runs, else at the end', () => {
    const failure = { job: 'core', step: 'test', step_no: 1, reason: 'x', lines: [] };
    expect(firstPlace(runOf({ state: 'failed', failure }))).toEqual({ job: 'core', step: 1 });
    const jobs = runOf().jobs.map((j, i) => ({ ...j, state: i === 0 ? 'running' : 'queued' }));
    expect(firstPlace(runOf({ state: 'running', jobs }))).toEqual({ job: 'core', step: -1 });
    expect(firstPlace(runOf())).toEqual({ job: 'android', step: -1 });
    expect(firstPlace(runOf({ jobs: [] }))).toEqual({ job: '', step: -1 });
  });

  it('goes on by keys, stays within, and leads to the first line of a step', () => {
    const { result } = at('/tidewick/7?job=core', runOf());
    expect(result.current.place).toEqual({ job: 'core', step: -1 });
    act(() => result.current.move(2));
    expect(result.current.place).toEqual({ job: 'core', step: 1 });
    expect(result.current.target).toEqual({ line: 40, to: 40 });
    act(() => result.current.move(9));
    expect(result.current.place).toEqual({ job: 'android', step: 0 });
    act(() => result.current.move(-99));
    expect(result.current.place).toEqual({ job: 'core', step: -1 });
    expect(result.current.target).toBeUndefined();
  });

  it('can be passed on by its address', () => {
    const { result } = at('/tidewick/7?job=core&line=42', runOf());
    expect(result.current.target).toEqual({ line: 42, to: 42 });
    act(() => result.current.openLine('android', 5));
    expect(address).toBe('/tidewick/7?job=android&line=5');
    act(() => result.current.select({ job: 'core', step: 0 }));
    expect(address).toBe('/tidewick/7?job=core');
    act(() => result.current.mark(3));
    expect(address).toBe('/tidewick/7?job=core&line=3');
  });

  it('shows the notes of a run that has passed, and of no other by itself', () => {
    const jobs = [{ name: 'core', state: 'passed', steps: [step('test', 2), step('sizes', 0, 'small')] }];
    const passed = at('/tidewick/7', runOf({ jobs }));
    expect(passed.result.current.reading).toBe('notes');
    act(() => passed.result.current.select({ job: 'core', step: 0 }));
    expect(passed.result.current.reading).toBe('log');
    act(() => passed.result.current.select({ job: 'core', step: 1 }));
    expect(passed.result.current.reading).toBe('notes');
    expect(at('/tidewick/7?job=core', runOf({ jobs })).result.current.reading).toBe('log');
    expect(at('/tidewick/7', runOf()).result.current.reading).toBe('log');

    let run = runOf({ state: 'running', jobs });
    const live = renderHook(() => usePlace(run), { wrapper: MemoryRouter });
    run = runOf({ jobs });
    live.rerender();
    expect(live.result.current.reading).toBe('log');
  });

  it('waits for the run', () => {
    expect(at('/tidewick/7', undefined).result.current.place).toEqual({ job: '', step: -1 });
  });
});

describe("a run's clock", () => {
  it("is the server's, and ticks until the run is over", () => {
    vi.useFakeTimers({ now: 5_000 });
    const { result, rerender } = renderHook(({ run }) => useNow(run, 5_000), {
      initialProps: { run: runOf({ state: 'running', finished: undefined }) },
    });
    const server = Date.parse('2026-01-01T00:01:00Z');
    expect(result.current).toBe(server);
    act(() => vi.advanceTimersByTime(1_000));
    expect(result.current).toBe(server + 1_000);
    rerender({ run: runOf() });
    expect(result.current).toBe(server);
    vi.useRealTimers();
  });
});

describe('what may be done with a run', () => {
  const acts = (more: object) => {
    const idle = { error: null, isPending: false, isSuccess: false, mutate: vi.fn() };
    return {
      stop: { ...idle, mutate: vi.fn() },
      again: { ...idle, mutate: vi.fn() },
      mayStop: false,
      mayStart: false,
      mayMend: false,
      ...more,
    } as unknown as ReturnType<typeof useActs>;
  };
  const shown = (given: ReturnType<typeof useActs>) =>
    render(
      <MemoryRouter>
        <RunHead run={runOf()} now={0} acts={given} />
      </MemoryRouter>,
    );

  it('is nothing for who may only look', () => {
    shown(acts({}));
    expect(screen.queryAllByRole('button')).toEqual([]);
    expect(screen.getByRole('heading', { level: 1 }).textContent).toBe('Draw the tide');
  });

  it('is to start again what failed, or all', async () => {
    const given = acts({ mayStart: true, mayMend: true });
    shown(given);
    await userEvent.click(screen.getByRole('button', { name: 'Start again what failed' }));
    await userEvent.click(screen.getByRole('button', { name: 'Start all of it again' }));
    expect(vi.mocked(given.again.mutate).mock.calls).toEqual([[true], [false]]);
  });

  it('is to stop it, once, and to hear why not', () => {
    const refused = { error: new Error('it is over'), isPending: false, isSuccess: true, mutate: vi.fn() };
    shown(acts({ mayStop: true, stop: refused }));
    expect(screen.getByRole('button', { name: 'Stopping …' }).hasAttribute('disabled')).toBe(true);
    expect(screen.getByRole('alert').textContent).toBe('it is over');
  });
});

describe('a try of a search', () => {
  const acts = (change: object) =>
    renderHook(() => useActs('p', 7, runOf(change), () => {}), {
      wrapper: ({ children }: { children: ReactNode }) => (
        <QueryClientProvider client={new QueryClient()}>
          <MeContext.Provider value={{ name: 'ada', administrator: false, roles: { p: 'builder' } }}>
            {children}
          </MeContext.Provider>
        </QueryClientProvider>
      ),
    }).result.current;

  it('is stopped, and not started again', () => {
    const failed = { state: 'failed', jobs: [{ name: 'core', state: 'failed', attempt: 1, steps: [] }] };
    const may = (change: object) => {
      const { mayStop, mayStart, mayMend } = acts(change);
      return { mayStop, mayStart, mayMend };
    };
    expect(may(failed)).toEqual({ mayStop: false, mayStart: true, mayMend: true });
    expect(may({ ...failed, trigger: 'bisection' })).toEqual({ mayStop: false, mayStart: false, mayMend: false });
    expect(may({ trigger: 'bisection', state: 'running' }).mayStop).toBe(true);
  });
});

describe('words', () => {
  it('say what started a run', () => {
    expect(why(runOf())).toBe('push by Ada');
    expect(why(runOf({ trigger: 'person', started_by: 'Ben', caused_by: 3, inputs: { size: 'minor' } }))).toBe(
      'started by Ben, again after run 3 with size minor',
    );
    expect(why(runOf({ trigger: 'proposal', outside: true }))).toBe('proposal by Ada, from outside: no secrets');
    expect(why(runOf({ trigger: 'bisection', outside: true, caused_by: 9 }))).toBe(
      'tried for the first bad change of run 9, of Ada: no secrets',
    );
  });
  it('say why there is no log', () => {
    expect(whyNoLog({ reason: 'skipped', waiting: 'x' } as Job)).toBe('skipped');
    expect(whyNoLog({ waiting: 'a runner' } as Job)).toBe('it waits: a runner');
    expect(whyNoLog({} as Job)).toBe('it waits for the jobs before it');
  });
});

describe('notes', () => {
  it('are those of all steps, with whose they are', async () => {
    const table = '| a | b |\n| - | - |\n| 1 | 2 |';
    const jobs = [{ name: 'core', state: 'passed', steps: [step('sizes', 0, table), step('x')] }];
    expect(notesOf(runOf({ jobs })).map((n) => n.key)).toEqual(['core.0']);
    const close = vi.fn();
    render(<Notes notes={notesOf(runOf({ jobs }))} close={close} />);
    const article = screen.getByRole('article', { name: 'sizes of core' });
    expect((await within(article).findAllByRole('cell')).map((c) => c.textContent)).toEqual(['1', '2']);
    await userEvent.click(screen.getByRole('button', { name: 'Log' }));
    expect(close).toHaveBeenCalledOnce();
  });

  it('that would keep the browser busy are shown as they stand', () => {
    const hostile = [
      '>'.repeat(60_000),
      '> '.repeat(60),
      '- '.repeat(30_000),
      '*a_ '.repeat(15_000),
      'x\n'.repeat(9) + '**a\n'.repeat(1_000),
      '['.repeat(60_000),
      'a@b.c '.repeat(10_000),
      '`'.repeat(60_000),
      '|' + '*|'.repeat(600),
    ];
    for (const text of hostile) {
      expect(plainEnough(text), text.slice(0, 20)).toBe(false);
      const jobs = [{ name: 'core', state: 'passed', steps: [step('sizes', 0, text)] }];
      render(<Notes notes={notesOf(runOf({ jobs }))} close={() => undefined} />);
      expect(screen.getByRole('article').textContent).toContain(text.trim().slice(0, 100));
      cleanup();
    }
    const table = '| file | size |\n| - | - |\n' + '| `lib/arm64-v8a/lib_tide_core.so` | 2_870 |\n'.repeat(800);
    expect(plainEnough(table)).toBe(true);
    expect(plainEnough('Sizes\n' + '-'.repeat(70))).toBe(true);
    expect(plainEnough('# A\n\n> quoted\n\n- one\n  - two\n\n**bold** and [link](https://tidewick.example)')).toBe(
      true,
    );
  });

  it('are a stranger’s: no HTML, no pictures, no scripts', () => {
    const { container } = render(
      <Markdown
        text={
          '# Head\n\n<script>alert(1)</script> <b onclick="x()">bold</b>\n\n' +
          '![seen](https://elsewhere.example/p.png)\n\n' +
          '[run](javascript:alert(1)) [data](data:text/html,x) [web](https://tidewick.example/)'
        }
      />,
    );
    expect(container.querySelectorAll('script, b, img, iframe, h1')).toHaveLength(0);
    expect(screen.getByText('seen (https://elsewhere.example/p.png)')).toBeTruthy();
    expect([...container.querySelectorAll('a')].map((a) => a.getAttribute('href'))).toEqual([
      '',
      '',
      'https://tidewick.example/',
    ]);
  });
});
