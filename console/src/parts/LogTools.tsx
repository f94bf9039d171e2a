import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import InputBase from '@mui/material/InputBase';
import { useEffect, useRef, useState } from 'react';
import { useKeys } from '../keys';
import { errorPattern, useHits } from '../run/useHits';

interface Props {
  project: string;
  run: number;
  job: string;
  attempt: number;
  /** The line that one is at. */
  at: () => number;
  show: (line: number) => void;
  wrap: boolean;
  setWrap: (on: boolean) => void;
  times: boolean;
  setTimes: (on: boolean) => void;
  /** Folds the steps that passed; undefined where there is none. */
  fold: { on: boolean; set: (on: boolean) => void } | undefined;
}

/** Looks for text in a log, goes from error to error, and sets how lines are shown. */
export function LogTools({ project, run, job, attempt, at, show, wrap, setWrap, times, setTimes, fold }: Props) {
  const [text, setText] = useState('');
  const [errors, setErrors] = useState<'next' | 'last' | undefined>();
  const field = useRef<HTMLInputElement>(null);
  const found = useHits(project, run, job, attempt, text, false);
  const wrong = useHits(project, run, job, attempt, errors ? errorPattern : '', true);
  useKeys({ '/': () => field.current?.focus() });
  const go = (back: boolean) => {
    const n = found.next(at(), back);
    if (n !== undefined) show(n);
  };
  // The first press of a button looks for the errors; what it was pressed for is done when they are known.
  const wanted = errors;
  const known = wrong;
  useEffect(() => {
    if (!wanted || !known.done || known.lines.length === 0) return;
    const n = wanted === 'last' ? known.lines.at(-1) : wrong.next(at(), false);
    if (n !== undefined) show(n);
    // Once for what the button was pressed for.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [wanted, known.done]);
  const error = (what: 'next' | 'last') => {
    if (errors && known.lines.length > 0) {
      const n = what === 'last' ? known.lines.at(-1) : wrong.next(at(), false);
      if (n !== undefined) show(n);
    }
    setErrors(what);
  };
  const place = found.lines.indexOf(at()) + 1;
  return (
    <Box
      role="search"
      sx={{
        display: 'flex',
        flexWrap: 'wrap',
        alignItems: 'center',
        columnGap: 1,
        px: 1.5,
        py: 0.25,
        borderBottom: 1,
        borderColor: 'divider',
        fontSize: 12,
      }}
    >
      <InputBase
        inputRef={field}
        value={text}
        placeholder="Find in this log"
        onChange={(e) => setText(e.target.value)}
        onKeyDown={(e) => {
          if (e.key === 'Enter') go(e.shiftKey);
          if (e.key === 'Escape') e.currentTarget.blur();
        }}
        inputProps={{ 'aria-label': 'Find in this log', maxLength: 500 }}
        sx={{ fontSize: 12, flexGrow: 1, minWidth: 120 }}
      />
      {text && (
        <>
          <Box component="span" role="status" sx={{ color: found.problem ? 'error.main' : 'text.secondary' }}>
            {found.problem ||
              [place > 0 && `${place} of`, found.lines.length, !found.done && 'so far'].filter(Boolean).join(' ')}
          </Box>
          <Button size="small" onClick={() => go(true)} disabled={found.lines.length === 0} aria-label="Previous hit">
            ↑
          </Button>
          <Button size="small" onClick={() => go(false)} disabled={found.lines.length === 0} aria-label="Next hit">
            ↓
          </Button>
        </>
      )}
      {errors && known.done && known.lines.length === 0 && <span role="status">no line looks like an error</span>}
      <Button size="small" onClick={() => error('next')}>
        Next error
      </Button>
      <Button size="small" onClick={() => error('last')}>
        Last error
      </Button>
      <Button size="small" aria-pressed={wrap} variant={wrap ? 'contained' : 'text'} onClick={() => setWrap(!wrap)}>
        Wrap
      </Button>
      <Button size="small" aria-pressed={times} variant={times ? 'contained' : 'text'} onClick={() => setTimes(!times)}>
        Times
      </Button>
      {fold && (
        <Button
          size="small"
          aria-pressed={fold.on}
          variant={fold.on ? 'contained' : 'text'}
          onClick={() => fold.set(!fold.on)}
        >
          Fold
        </Button>
      )}
    </Box>
  );
}
