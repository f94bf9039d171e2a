import { useCallback, useMemo, useState } from 'react';
import { useSearchParams } from 'react-router';
import type { RunDetail } from '../api/client';
import type { Place } from '../parts/Timeline';
import { rangeOf, rangeText } from '../visible';
import { firstPlace, further, notesOf, over, placesOf } from './words';

/** Which job, step and line of a run are looked at. The address follows, so that it can be passed on. */
export function usePlace(run: RunDetail | undefined) {
  const [search, setSearch] = useSearchParams();
  const [chosen, choose] = useState<Place>();
  const linked = search.get('job');
  const [target, setTarget] = useState<{ line: number; to: number } | undefined>(rangeOf(search.get('line')));
  const place = chosen ?? (linked ? { job: linked, step: -1 } : run ? firstPlace(run) : { job: '', step: -1 });
  const places = useMemo(() => placesOf(run), [run]);

  // Of a run that has passed the notes say more than the log. That is decided once: nothing changes by itself later.
  const [reading, read] = useState<'notes' | 'log'>();
  if (run && reading === undefined)
    read(!linked && over(run.state) && !run.failure && notesOf(run).length > 0 ? 'notes' : 'log');

  const address = useCallback(
    (job: string, n?: number, to = n) =>
      setSearch(
        (s) => {
          s.set('job', job);
          if (n === undefined || to === undefined) s.delete('line');
          else s.set('line', rangeText(n, to));
          return s;
        },
        { replace: true },
      ),
    [setSearch],
  );
  const mark = useCallback(
    (n: number, to = n) => {
      setTarget({ line: n, to });
      read('log');
      address(place.job, n, to);
    },
    [place.job, address],
  );
  const openLine = (job: string, n: number) => {
    choose({ job, step: run?.failure?.step_no ?? -1 });
    setTarget({ line: n, to: n });
    read('log');
    address(job, n);
  };
  const select = (p: Place) => {
    choose(p);
    const step = run?.jobs.find((j) => j.name === p.job)?.steps[p.step];
    setTarget(step?.first_line ? { line: step.first_line, to: step.first_line } : undefined);
    read(step?.note ? 'notes' : 'log');
    address(p.job);
  };
  const move = (by: number) => {
    const next = further(places, place, by);
    if (next) select(next);
  };
  const forget = () => {
    choose(undefined);
    read(undefined);
  };
  return { place, target, reading, read, mark, openLine, select, move, forget };
}
