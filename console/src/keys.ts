import { useEffect, useRef } from 'react';

/** Binds single keys while nothing is being typed; the latest functions are called, without binding anew. */
export function useKeys(actions: Record<string, () => void>) {
  const latest = useRef(actions);
  useEffect(() => {
    latest.current = actions;
  });
  useEffect(() => {
    const onKey = (e: KeyboardEvent) => {
      const target = e.target as HTMLElement;
      if (
        e.ctrlKey ||
        e.metaKey ||
        e.altKey ||
        target.closest('input, textarea, select, [contenteditable=true], [role=listbox], [role=dialog]')
      )
        return;
      const action = latest.current[e.key];
      if (!action || (e.key === 'Enter' && target.closest('a, button'))) return;
      e.preventDefault();
      action();
    };
    window.addEventListener('keydown', onKey);
    return () => window.removeEventListener('keydown', onKey);
  }, []);
}
