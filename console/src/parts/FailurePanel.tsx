import type { ReactNode } from 'react';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Paper from '@mui/material/Paper';
import { useState } from 'react';
import { Link } from 'react-router';
import type { Failure, FailureSeen, Finding, Reported } from '../api/client';
import { ago, count } from '../text';
import { mono } from '../theme';
import { LineText } from './LineText';

const frame = { borderColor: 'error.main', borderLeftWidth: 4, p: 1.5, m: 1.5, mb: 0 } as const;

/** Where a test case failed; many messages say it themselves. */
const placeOf = (t: { file?: string; line?: number }) => `${t.file}${t.line ? `:${t.line}` : ''}`;

/** Why it failed, and what to do. */
function Why({ cause, project }: { cause: NonNullable<Failure['cause']>; project: string }) {
  return (
    <Box sx={{ mt: 0.5 }}>
      <Box
        component={Link}
        to={`/${encodeURIComponent(project)}/failures/${encodeURIComponent(cause.name)}`}
        title="What it is, and where it was seen"
        sx={{ color: 'text.primary', fontWeight: 700 }}
      >
        {cause.title[0]?.toUpperCase() + cause.title.slice(1)}.
      </Box>{' '}
      {cause.means}{' '}
      {cause.do && (
        <Box component="span">
          <Box component="span" sx={{ color: 'state.good', fontWeight: 650 }}>
            What to do:
          </Box>{' '}
          {cause.do}
        </Box>
      )}
    </Box>
  );
}

/** How often the same failure was seen before, and what ended it. */
function SeenBefore({ seen, project }: { seen: FailureSeen; project: string }) {
  const run = (n: number) => (
    <Box component={Link} to={`/${encodeURIComponent(project)}/${n}`} sx={{ color: 'primary.main' }}>
      run {n}
    </Box>
  );
  return (
    <Box sx={{ mt: 0.5 }}>
      The same was seen in {seen.times > 1 ? `${count(seen.times, 'run')} before, first in ` : ''}
      {run(seen.first_run)}
      {seen.times > 1 && <>, last in {run(seen.last_run)}</>} ({ago(seen.last)})
      {seen.gone && (
        <>
          ; the last time it went away with {run(seen.gone.run)}: <b>{seen.gone.subject}</b>{' '}
          <Box component="span" sx={{ fontFamily: mono, fontSize: 12 }}>
            {seen.gone.commit.slice(0, 9)}
          </Box>{' '}
          {seen.gone.author}
        </>
      )}
      .
    </Box>
  );
}

/** What failed, where and why, before anything else. */
export function FailurePanel({
  failure,
  project,
  open,
  beside,
}: {
  failure: Failure;
  project: string;
  /** What stands beside the head. */
  beside?: ReactNode;
  open: (line: number) => void;
}) {
  return (
    <Paper component="section" aria-label="What failed" sx={frame}>
      <Box sx={{ display: 'flex', flexWrap: 'wrap', justifyContent: 'space-between', columnGap: 2 }}>
        <Box sx={{ fontWeight: 650, color: 'error.main' }}>
          {failure.job}
          {failure.step && ` › ${failure.step}`}: {failure.reason}
        </Box>
        {beside}
      </Box>
      {failure.cause && <Why cause={failure.cause} project={project} />}
      {failure.seen && <SeenBefore seen={failure.seen} project={project} />}
      {failure.tests?.map((t) => (
        <Box key={t.suite + t.name} sx={{ mt: 0.5 }}>
          <Box component="span" sx={{ color: 'error.main' }}>
            ✗{' '}
          </Box>
          <b>
            {t.suite} › {t.name}
          </b>
          <Box component="span" sx={{ fontFamily: mono, fontSize: 12, ml: 1, overflowWrap: 'anywhere' }}>
            {t.message}
          </Box>
          {t.file && !t.message?.includes(placeOf(t)) && (
            <Box sx={{ fontFamily: mono, fontSize: 12, ml: 2, color: 'text.secondary' }}>{placeOf(t)}</Box>
          )}
        </Box>
      ))}
      {failure.lines.length > 0 && (
        <Box
          sx={{ mt: 1, fontFamily: mono, fontSize: 12, lineHeight: '24px', maxHeight: 192, overflow: 'auto' }}
          tabIndex={0}
          aria-label="Lines that matter"
        >
          {failure.lines.map((l) => (
            <Box key={l.n} sx={{ display: 'flex', gap: 1.5 }}>
              <Box
                component="a"
                href={`?job=${failure.job}&line=${l.n}`}
                onClick={(e) => {
                  e.preventDefault();
                  open(l.n);
                }}
                aria-label={`line ${l.n} of the log`}
                sx={{ color: 'text.secondary', minWidth: 'max(4ch, 24px)', minHeight: 24, textAlign: 'right' }}
              >
                {l.n}
              </Box>
              <Box sx={{ whiteSpace: 'pre-wrap', overflowWrap: 'anywhere' }}>
                <LineText text={l.x} />
              </Box>
            </Box>
          ))}
        </Box>
      )}
    </Paper>
  );
}

function Found({ finding: f }: { finding: Finding }) {
  return (
    <Box sx={{ mb: 1 }}>
      <Box sx={{ fontWeight: 650, color: f.severity === 'error' ? 'error.main' : 'text.primary' }}>{f.message}</Box>
      <Box component="pre" sx={{ fontFamily: mono, fontSize: 12, m: 0, overflow: 'auto' }} tabIndex={0}>
        {`${f.file}${f.line ? `:${f.line}` : ''}${f.col ? `:${f.col}` : ''}  [${f.code}]`}
        {f.excerpt &&
          `\n${String(f.line).padStart(5)} | ${f.excerpt}${f.col ? `\n      | ${' '.repeat(f.col - 1)}^` : ''}`}
      </Box>
      {f.fix && <Box sx={{ color: 'text.secondary', whiteSpace: 'pre-wrap' }}>{f.fix}</Box>}
    </Box>
  );
}

/** What failed and changes nothing else, since its pipeline says so. */
export function OnlyReported({ list }: { list: Reported[] }) {
  return (
    <Paper
      component="section"
      aria-label="What failed and changes nothing else"
      sx={{ px: 1.5, py: 0.75, m: 1.5, mb: 0, flexShrink: 0, overflowWrap: 'anywhere' }}
    >
      {list.map((r) => (
        <Box key={`${r.job} ${r.step ?? ''}`}>
          <Box component="span" sx={{ color: 'var(--mui-palette-state-late)', fontWeight: 650 }}>
            Only reported:{' '}
          </Box>
          {r.job}
          {r.step && ` › ${r.step}`}: {r.reason}
        </Box>
      ))}
    </Paper>
  );
}

/** What is wrong with the pipeline files, each with its place and what to do. Warnings stay folded: the run went on. */
export function Findings({ findings }: { findings: Finding[] }) {
  const errors = findings.filter((f) => f.severity === 'error');
  const warnings = findings.filter((f) => f.severity !== 'error');
  const [open, setOpen] = useState(false);
  return (
    <>
      {errors.length > 0 && (
        <Paper component="section" aria-label="What is wrong with the pipeline files" sx={{ ...frame, flexShrink: 0 }}>
          {errors.map((f) => (
            <Found key={`${f.file}:${f.line}:${f.col}:${f.code}`} finding={f} />
          ))}
        </Paper>
      )}
      {warnings.length > 0 && (
        <Paper component="section" aria-label="Warnings" sx={{ px: 1.5, py: 0.5, m: 1.5, mb: 0, flexShrink: 0 }}>
          <Box sx={{ display: 'flex', gap: 1.5, alignItems: 'baseline' }}>
            <Box component="span" sx={{ color: 'var(--mui-palette-state-late)', fontWeight: 650 }}>
              {count(warnings.length, 'warning')}
            </Box>
            <Box
              component="span"
              sx={{
                flexGrow: 1,
                color: 'text.secondary',
                overflow: 'hidden',
                textOverflow: 'ellipsis',
                whiteSpace: 'nowrap',
              }}
            >
              {!open && warnings[0]?.message}
            </Box>
            <Button size="small" aria-expanded={open} onClick={() => setOpen(!open)}>
              {open ? 'Less' : 'Show'}
            </Button>
          </Box>
          {open && (
            <Box sx={{ maxHeight: 260, overflow: 'auto' }} tabIndex={0} aria-label="All warnings">
              {warnings.map((f) => (
                <Found key={`${f.file}:${f.line}:${f.col}:${f.code}`} finding={f} />
              ))}
            </Box>
          )}
        </Paper>
      )}
    </>
  );
}
