import { useEffect, useState } from 'react';
import type { RunDetail } from '../api/client';
import { over } from './words';

/** The server's clock in milliseconds, ticking while the run is open. read is when its answer came, by our own. */
export function useNow(run: RunDetail | undefined, read: number) {
  const [clock, setClock] = useState(read);
  const open = run !== undefined && !over(run.state);
  useEffect(() => {
    if (!open) return;
    const timer = setInterval(() => setClock(Date.now()), 250);
    return () => clearInterval(timer);
  }, [open]);
  return run ? Date.parse(run.now) + (open ? Math.max(0, clock - read) : 0) : 0;
}
