import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import { useVirtualizer } from '@tanstack/react-virtual';
import { useCallback, useEffect, useRef, useState, type ReactNode } from 'react';
import { api, logAddress, take, type Line, type LogBatch } from '../api/client';
import { useKeys } from '../keys';
import { LogModel, pageSize } from '../log';
import { useStream } from '../stream';
import { count } from '../text';
import { mono } from '../theme';
import { LineText } from './LineText';
import { LogTools } from './LogTools';
import { PaneHead } from './PaneHead';

const rowHeight = 18;

interface Props {
  project: string;
  run: number;
  job: string;
  attempt: number;
  /** The job is over: nothing more will come. */
  over: boolean;
  /** A line to show and mark; a new object shows it again. */
  target: { line: number } | undefined;
  markLine: (n: number) => void;
  /** Told from which line on the stream should bring more. */
  ready: (after: number) => void;
  /** What stands in the head beside the log's own. */
  beside?: ReactNode;
}

/** The log of one attempt: opens at its end, or at a line; fetches what is looked at; takes what comes live. */
export function LogView({ project, run, job, attempt, over, target, markLine, ready, beside }: Props) {
  const model = useRef(new LogModel());
  const [, setVersion] = useState(0);
  const [follow, setFollow] = useState(!target);
  const [problem, setProblem] = useState('');
  const [wrap, setWrap] = useState(false);
  const [times, setTimes] = useState(false);
  const here = useRef(0);
  const scroller = useRef<HTMLDivElement>(null);
  const { onLines } = useStream();
  const changed = useCallback(() => setVersion(model.current.version), []);

  const read = useCallback(
    async (query: { from?: number; tail?: number }) =>
      take(
        await api.GET('/api/v1/projects/{project}/runs/{number}/jobs/{job}/log', {
          params: { path: { project, number: run, job }, query: { attempt, limit: pageSize, ...query } },
        }),
      ),
    [project, run, job, attempt],
  );

  // The end of the log first: it is what a person looks for, and tells how long the log is.
  useEffect(() => {
    let gone = false;
    read({ tail: pageSize }).then(
      (part) => {
        if (gone) return;
        model.current.add(part.lines, part.total);
        changed();
        if (!part.complete) ready(part.total);
      },
      (e: Error) => setProblem(e.message),
    );
    return () => {
      gone = true;
    };
  }, [read, changed, ready]);

  useEffect(() => {
    onLines((b: LogBatch) => {
      if (b.job !== job || b.attempt !== attempt) return;
      model.current.add(b.lines);
      changed();
    });
    return () => onLines(undefined);
  }, [onLines, job, attempt, changed]);

  const total = model.current.total;
  // eslint-disable-next-line react-hooks/incompatible-library -- its functions are called here only, never handed on
  const rows = useVirtualizer({
    count: total,
    getScrollElement: () => scroller.current,
    estimateSize: () => rowHeight,
    overscan: 20,
  });
  const shown = rows.getVirtualItems();
  const first = (shown[0]?.index ?? 0) + 1;
  const last = (shown[shown.length - 1]?.index ?? 0) + 1;

  useEffect(() => {
    for (const page of model.current.missing(first, last)) {
      read({ from: page }).then(
        (part) => {
          model.current.add(part.lines, part.total);
          changed();
        },
        (e: Error) => {
          model.current.forget(page);
          setProblem(e.message);
        },
      );
    }
  }, [first, last, total, read, changed]);

  // A job that has ended may have told its last lines while the stream was away.
  useEffect(() => {
    if (!over) return;
    read({ from: model.current.total + 1 }).then(
      (part) => {
        model.current.add(part.lines, part.total);
        changed();
      },
      () => undefined,
    );
  }, [over, read, changed]);

  const marked = target?.line;
  useEffect(() => {
    if (follow && total > 0) rows.scrollToIndex(total - 1, { align: 'end' });
  }, [follow, total, rows]);
  useEffect(() => {
    if (target && total >= target.line) {
      setFollow(false);
      rows.scrollToIndex(target.line - 1, { align: 'center' });
    }
    // Shown once for each target, not whenever the log grows.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [target, total > 0]);

  useKeys({ f: () => setFollow((v) => !v) });
  const onScroll = () => {
    const el = scroller.current;
    if (!el) return;
    const atEnd = el.scrollHeight - el.scrollTop - el.clientHeight < rowHeight * 2;
    if (!atEnd && follow && lastTop.current > el.scrollTop) setFollow(false);
    lastTop.current = el.scrollTop;
  };
  const lastTop = useRef(0);
  // Wrapped lines are as high as they are: what was measured of them otherwise does not hold.
  useEffect(() => rows.measure(), [wrap, times, rows]);
  const show = (n: number) => {
    here.current = n;
    setFollow(false);
    markLine(n);
    rows.scrollToIndex(n - 1, { align: 'center' });
  };
  const digits = Math.max(3, String(total).length);

  return (
    <Box
      component="section"
      aria-label={`Log of ${job}`}
      sx={{ display: 'flex', flexDirection: 'column', height: '100%', minHeight: 0 }}
    >
      <PaneHead
        title={
          <>
            Log of {job}
            {attempt > 1 ? `, attempt ${attempt}` : ''}{' '}
            <Box component="span" sx={{ fontWeight: 400, color: 'text.secondary', fontSize: 12 }}>
              {count(total, 'line')}
            </Box>
          </>
        }
      >
        {problem && (
          <Box role="alert" sx={{ color: 'error.main', fontSize: 12 }}>
            {problem}
          </Box>
        )}
        {beside}
        {over ? (
          <Button size="small" onClick={() => rows.scrollToIndex(total - 1, { align: 'end' })}>
            To the end
          </Button>
        ) : (
          <Button
            size="small"
            variant={follow ? 'contained' : 'outlined'}
            aria-pressed={follow}
            onClick={() => setFollow((v) => !v)}
          >
            {follow ? 'Following' : 'Follow'}
          </Button>
        )}
        <Button
          size="small"
          component="a"
          href={logAddress(project, run, job, attempt)}
          download={`${project}-${run}-${job}.log`}
        >
          Download
        </Button>
      </PaneHead>
      <LogTools
        project={project}
        run={run}
        job={job}
        attempt={attempt}
        at={() => here.current || (target?.line ?? 0)}
        show={show}
        wrap={wrap}
        setWrap={setWrap}
        times={times}
        setTimes={setTimes}
      />
      <Box
        ref={scroller}
        onScroll={onScroll}
        tabIndex={0}
        role="log"
        aria-live="off"
        aria-label="Lines"
        data-total={total}
        sx={{
          flexGrow: 1,
          overflow: 'auto',
          fontFamily: mono,
          fontSize: 12,
          fontVariantLigatures: 'none',
          overflowAnchor: 'none',
        }}
      >
        <Box sx={{ height: rows.getTotalSize(), position: 'relative', minWidth: wrap ? 0 : 'max-content' }}>
          {shown.map((v) => (
            <LogLine
              key={v.key}
              n={v.index + 1}
              top={v.start}
              line={model.current.line(v.index + 1)}
              digits={digits}
              on={marked === v.index + 1}
              mark={markLine}
              measure={wrap ? rows.measureElement : undefined}
              since={times ? (model.current.line(1)?.t ?? model.current.line(v.index + 1)?.t) : undefined}
            />
          ))}
        </Box>
      </Box>
    </Box>
  );
}

function LogLine({
  n,
  top,
  line,
  digits,
  on,
  mark,
  measure,
  since,
}: {
  n: number;
  top: number;
  line: Line | undefined;
  digits: number;
  on: boolean;
  mark: (n: number) => void;
  /** Lines are wrapped: each says how high it is. */
  measure: ((el: Element | null) => void) | undefined;
  /** Times are shown, since this one (milliseconds). */
  since: number | undefined;
}) {
  return (
    <Box
      ref={measure}
      data-index={n - 1}
      data-line={n}
      style={{ transform: `translateY(${top}px)` }}
      sx={{
        position: 'absolute',
        top: 0,
        left: 0,
        right: 0,
        ...(measure ? { minHeight: rowHeight } : { height: rowHeight }),
        lineHeight: `${rowHeight}px`,
        display: 'flex',
        whiteSpace: measure ? 'pre-wrap' : 'pre',
        overflowWrap: measure ? 'anywhere' : 'normal',
        pr: 2,
        ...(on && { bgcolor: 'var(--mui-palette-soft)', boxShadow: 'inset 3px 0 var(--mui-palette-primary-main)' }),
        ...(line && line.s < 0 && { color: 'text.secondary', fontStyle: 'italic' }),
      }}
    >
      <Box
        component="a"
        href={`?line=${n}`}
        onClick={(e) => {
          e.preventDefault();
          mark(n);
        }}
        aria-label={`Link to line ${n}`}
        tabIndex={-1}
        sx={{
          width: `${digits + 2}ch`,
          pr: '1ch',
          textAlign: 'right',
          flexShrink: 0,
          color: 'text.secondary',
          textDecoration: 'none',
          fontStyle: 'normal',
          '&:hover': { textDecoration: 'underline' },
        }}
      >
        {n}
      </Box>
      {since !== undefined && (
        <Box
          component="span"
          sx={{ width: '9ch', pr: '1ch', textAlign: 'right', flexShrink: 0, color: 'text.secondary' }}
        >
          {line && `+${((line.t - since) / 1000).toFixed(2)}`}
        </Box>
      )}
      <span>{line ? <LineText text={line.x} /> : '…'}</span>
    </Box>
  );
}
