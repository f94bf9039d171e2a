import { useQueryClient } from '@tanstack/react-query';
import { createContext, useContext, useEffect, useMemo, useRef, useState, type ReactNode } from 'react';
import type { Change, LogBatch } from './api/client';

/** What the tab shows, and so wants to be told of. */
export interface Topic {
  project?: string;
  run?: number;
  job?: string;
  attempt?: number;
  after?: number;
}

interface Stream {
  setTopic: (t: Topic) => void;
  onLines: (f: ((b: LogBatch) => void) | undefined) => void;
  live: boolean;
}

const Context = createContext<Stream>({ setTopic: () => undefined, onLines: () => undefined, live: false });

/**
 * Tells whether the tab is looked at. Browsers allow six connections to a server for all tabs together; tabs that
 * nobody looks at, and pages kept for the way back, must not hold one.
 */
function useShown() {
  const [shown, setShown] = useState(() => document.visibilityState === 'visible');
  useEffect(() => {
    const look = () => setShown(document.visibilityState === 'visible');
    const leave = () => setShown(false);
    document.addEventListener('visibilitychange', look);
    window.addEventListener('pageshow', look);
    window.addEventListener('pagehide', leave);
    return () => {
      document.removeEventListener('visibilitychange', look);
      window.removeEventListener('pageshow', look);
      window.removeEventListener('pagehide', leave);
    };
  }, []);
  return shown;
}

/**
 * Holds the tab's one event stream. A page says by useTopic what it shows; the stream is opened anew when that
 * changes and comes back by itself after a break, where it was.
 */
export function StreamProvider({ children }: { children: ReactNode }) {
  const queries = useQueryClient();
  const [topic, setTopic] = useState<Topic>({});
  const [live, setLive] = useState(false);
  const lines = useRef<((b: LogBatch) => void) | undefined>(undefined);
  const shown = useShown();

  useEffect(() => {
    if (!shown) return;
    const q = new URLSearchParams();
    if (topic.project) q.set('project', topic.project);
    if (topic.run) q.set('run', String(topic.run));
    if (topic.job && topic.attempt) {
      q.set('log', `${topic.job}.${topic.attempt}`);
      q.set('cursor', `0;${topic.job}.${topic.attempt}:${topic.after ?? 0}`);
    }
    const source = new EventSource(`/api/v1/stream?${q}`);
    let pending: ReturnType<typeof setTimeout> | undefined;
    // A burst of changes is one look at the service, not many.
    const refresh = (c?: Change) => {
      pending ??= setTimeout(() => {
        pending = undefined;
        if (c) void queries.invalidateQueries({ queryKey: ['run', c.project, c.run] });
        else void queries.invalidateQueries({ queryKey: ['run'] });
        void queries.invalidateQueries({ queryKey: ['runs'] });
        void queries.invalidateQueries({ queryKey: ['projects'] });
        void queries.invalidateQueries({ queryKey: ['overview'] });
        void queries.invalidateQueries({ queryKey: ['queue'] });
      }, 80);
    };
    source.addEventListener('hello', () => {
      setLive(true);
      refresh();
    });
    source.addEventListener('change', (e) => {
      refresh(topic.run ? (JSON.parse(e.data) as Change) : undefined);
    });
    source.addEventListener('log', (e) => lines.current?.(JSON.parse(e.data) as LogBatch));
    source.onerror = () => setLive(false);
    // React may be too late when the page is being left; the connection must not be.
    const leave = () => source.close();
    window.addEventListener('pagehide', leave);
    return () => {
      window.removeEventListener('pagehide', leave);
      source.close();
      clearTimeout(pending);
    };
  }, [queries, topic, shown]);

  const value = useMemo(
    () => ({
      setTopic,
      onLines: (f: ((b: LogBatch) => void) | undefined) => {
        lines.current = f;
      },
      live,
    }),
    [live],
  );
  return <Context.Provider value={value}>{children}</Context.Provider>;
}

export const useStream = () => useContext(Context);

/** Says what the page shows. */
export function useTopic({ project, run, job, attempt, after }: Topic) {
  const { setTopic } = useStream();
  useEffect(() => setTopic({ project, run, job, attempt, after }), [setTopic, project, run, job, attempt, after]);
}
