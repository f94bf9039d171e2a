import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import { useVirtualizer } from '@tanstack/react-virtual';
import { useCallback, useEffect, useRef, useState, type ReactNode } from 'react';
import { plain } from '../ansi';
import { api, logAddress, take, type Line, type LogBatch } from '../api/client';
import { useKeys } from '../keys';
import { LogModel, pageSize } from '../log';
import { useStream } from '../stream';
import { count } from '../text';
import { mono } from '../theme';
import { type Fold, mostShown, partOf, Visible } from '../visible';
import { LineText } from './LineText';
import { LogTools } from './LogTools';
import { PaneHead } from './PaneHead';

const rowHeight = 18;

/** So many lines are copied at most. */
const mostCopied = 20_000;

const pageOf = (line: number) => Math.floor((line - 1) / pageSize) * pageSize + 1;

interface Props {
  project: string;
  run: number;
  job: string;
  attempt: number;
  /** The job is over: nothing more will come. */
  over: boolean;
  /** Lines to show and mark; a new object shows them again. */
  target: { line: number; to: number } | undefined;
  /** Steps that can be folded: those that have ended. */
  folds: (Fold & { passed: boolean })[];
  markLine: (n: number, to?: number) => void;
  /** Told from which line on the stream should bring more. */
  ready: (after: number) => void;
  /** What stands in the head beside the log's own. */
  beside?: ReactNode;
}

/** The log of one attempt: opens at its end, or at a line; fetches what is looked at; takes what comes live. */
export function LogView({ project, run, job, attempt, over, target, folds, markLine, ready, beside }: Props) {
  const model = useRef(new LogModel());
  const [, setVersion] = useState(0);
  const [follow, setFollow] = useState(!target);
  const [problem, setProblem] = useState('');
  const [wrap, setWrap] = useState(false);
  const [times, setTimes] = useState(false);
  const [folded, setFolded] = useState<ReadonlySet<number>>(new Set());
  const [part, setPart] = useState<number>();
  const [said, say] = useState('');
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
  const visible = new Visible(
    total,
    part ?? partOf(total),
    folds.filter((f) => folded.has(f.from)),
  );
  // eslint-disable-next-line react-hooks/incompatible-library -- its functions are called here only, never handed on
  const rows = useVirtualizer({
    count: visible.count,
    getScrollElement: () => scroller.current,
    estimateSize: () => rowHeight,
    overscan: 20,
  });
  const shown = rows.getVirtualItems();

  const pages = shown
    .map((v) => pageOf(visible.row(v.index).line))
    .filter((p, i, all) => all.indexOf(p) === i)
    .join(' ');
  useEffect(() => {
    const wanted = pages.split(' ').flatMap((p) => model.current.missing(Number(p), Number(p)));
    for (const page of wanted) {
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
  }, [pages, total, read, changed]);

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

  const end = visible.count - 1;
  useEffect(() => {
    if (follow && end >= 0) rows.scrollToIndex(end, { align: 'end' });
  }, [follow, end, rows]);
  /** Lets a line be seen: in its part of the log, and its step unfolded. */
  const reveal = (n: number) => {
    const hides = folds.filter((f) => folded.has(f.from) && f.from < n && n <= f.to).map((f) => f.from);
    const left = new Set([...folded].filter((f) => !hides.includes(f)));
    const at = partOf(n);
    setFolded(left);
    setPart(at === partOf(total) ? undefined : at);
    const then = new Visible(
      total,
      at,
      folds.filter((f) => left.has(f.from)),
    );
    // Once what is shown then is drawn.
    requestAnimationFrame(() => rows.scrollToIndex(then.rowOf(n), { align: 'center' }));
  };
  useEffect(() => {
    if (target && total >= target.line) {
      setFollow(false);
      reveal(target.line);
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
    reveal(n);
  };
  const fold = (from: number) =>
    setFolded((all) => (all.has(from) ? new Set([...all].filter((f) => f !== from)) : new Set([...all, from])));
  const passed = folds.filter((f) => f.passed && f.to > f.from);
  const allFolded = passed.length > 0 && passed.every((f) => folded.has(f.from));
  /** Puts the marked lines on the clipboard, as plain text. */
  const copy = async () => {
    if (!target) return;
    const texts: string[] = [];
    for (let at = target.line; at <= Math.min(target.to, target.line + mostCopied - 1);) {
      const got = await read({ from: at });
      const lines = got.lines.filter((l) => l.n <= target.to);
      if (lines.length === 0) break;
      texts.push(...lines.map((l) => plain(l.x)));
      at = (lines.at(-1)?.n ?? at) + 1;
    }
    await navigator.clipboard.writeText(texts.join('\n') + '\n');
    say(`${count(texts.length, 'line')} copied`);
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
        {said && (
          <Box role="status" sx={{ color: 'text.secondary', fontSize: 12 }}>
            {said}
          </Box>
        )}
        {problem && (
          <Box role="alert" sx={{ color: 'error.main', fontSize: 12 }}>
            {problem}
          </Box>
        )}
        {beside}
        {target && (
          <Button
            size="small"
            title="Shift and a click on a number marks all lines to it"
            onClick={() => void copy().catch((e: Error) => setProblem(e.message))}
          >
            {target.to > target.line ? 'Copy lines' : 'Copy line'}
          </Button>
        )}
        {over ? (
          <Button
            size="small"
            onClick={() => {
              setPart(undefined);
              requestAnimationFrame(() => rows.scrollToIndex(end, { align: 'end' }));
            }}
          >
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
        fold={
          passed.length > 0
            ? { on: allFolded, set: (on) => setFolded(new Set(on ? passed.map((f) => f.from) : [])) }
            : undefined
        }
      />
      {total > mostShown && (
        <Box sx={{ px: 1.5, fontSize: 12, display: 'flex', gap: 1, alignItems: 'baseline' }}>
          <span>
            lines {visible.first.toLocaleString('en')} to {visible.last.toLocaleString('en')}
          </span>
          <Button size="small" disabled={visible.first === 1} onClick={() => show(visible.first - 1)}>
            Earlier
          </Button>
          <Button size="small" disabled={visible.last === total} onClick={() => show(visible.last + 1)}>
            Later
          </Button>
        </Box>
      )}
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
          {shown.map((v) => {
            const { line: n, fold: hidden } = visible.row(v.index);
            return (
              <LogLine
                key={v.key}
                n={n}
                index={v.index}
                top={v.start}
                line={model.current.line(n)}
                digits={digits}
                on={target !== undefined && target.line <= n && n <= target.to}
                mark={(extend) => {
                  say('');
                  if (extend && target) markLine(Math.min(target.line, n), Math.max(target.to, n));
                  else markLine(n);
                }}
                measure={wrap ? rows.measureElement : undefined}
                since={times ? (model.current.line(1)?.t ?? model.current.line(n)?.t) : undefined}
                fold={
                  hidden && {
                    text: `${hidden.name}, ${count(hidden.to - hidden.from + 1, 'line')}`,
                    open: () => fold(hidden.from),
                  }
                }
              />
            );
          })}
        </Box>
      </Box>
    </Box>
  );
}

function LogLine({
  n,
  index,
  top,
  line,
  digits,
  on,
  mark,
  measure,
  since,
  fold,
}: {
  n: number;
  index: number;
  top: number;
  line: Line | undefined;
  digits: number;
  on: boolean;
  /** Marks the line, or all to it from those that are marked. */
  mark: (extend: boolean) => void;
  /** Lines are wrapped: each says how high it is. */
  measure: ((el: Element | null) => void) | undefined;
  /** Times are shown, since this one (milliseconds). */
  since: number | undefined;
  /** The line stands for a step that is folded. */
  fold: { text: string; open: () => void } | undefined;
}) {
  return (
    <Box
      ref={measure}
      data-index={index}
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
          mark(e.shiftKey);
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
      {fold ? (
        <Box
          component="button"
          type="button"
          aria-expanded={false}
          onClick={fold.open}
          sx={{
            font: 'inherit',
            color: 'primary.main',
            background: 'none',
            border: 0,
            p: 0,
            cursor: 'pointer',
            whiteSpace: 'pre',
          }}
        >
          ▸ {fold.text}
        </Box>
      ) : (
        <span>{line ? <LineText text={line.x} /> : '…'}</span>
      )}
    </Box>
  );
}
