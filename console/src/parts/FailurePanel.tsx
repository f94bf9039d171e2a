import Box from '@mui/material/Box';
import Paper from '@mui/material/Paper';
import type { Failure, Finding } from '../api/client';
import { mono } from '../theme';
import { LineText } from './LineText';

const frame = { borderColor: 'error.main', borderLeftWidth: 4, p: 1.5, m: 1.5, mb: 0 } as const;

/** What failed, where and why, before anything else. */
export function FailurePanel({ failure, open }: { failure: Failure; open: (line: number) => void }) {
  return (
    <Paper component="section" aria-label="What failed" sx={frame}>
      <Box sx={{ fontWeight: 650, color: 'error.main' }}>
        {failure.job}{failure.step && ` › ${failure.step}`}: {failure.reason}
      </Box>
      {failure.tests?.map((t) => (
        <Box key={t.suite + t.name} sx={{ mt: 0.5 }}>
          <Box component="span" sx={{ color: 'error.main' }}>✗ </Box><b>{t.suite} › {t.name}</b>
          <Box component="span" sx={{ fontFamily: mono, fontSize: 12, ml: 1, overflowWrap: 'anywhere' }}>{t.message}</Box>
        </Box>
      ))}
      {failure.lines.length > 0 && (
        <Box sx={{ mt: 1, fontFamily: mono, fontSize: 12, lineHeight: '18px', maxHeight: 150, overflow: 'auto' }} tabIndex={0} aria-label="Lines that matter">
          {failure.lines.map((l) => (
            <Box key={l.n} sx={{ display: 'flex', gap: 1.5 }}>
              <Box component="a" href={`?job=${failure.job}&line=${l.n}`} onClick={(e) => { e.preventDefault(); open(l.n); }} aria-label={`line ${l.n} of the log`}
                sx={{ color: 'text.secondary', minWidth: '4ch', textAlign: 'right' }}>{l.n}</Box>
              <Box sx={{ whiteSpace: 'pre-wrap', overflowWrap: 'anywhere' }}><LineText text={l.x} /></Box>
            </Box>
          ))}
        </Box>
      )}
    </Paper>
  );
}

/** What is wrong with the pipeline files, each with its place and what to do. */
export function Findings({ findings }: { findings: Finding[] }) {
  return (
    <Paper component="section" aria-label="What is wrong with the pipeline files" sx={frame}>
      {findings.map((f) => (
        <Box key={`${f.file}:${f.line}:${f.col}:${f.code}`} sx={{ mb: 1 }}>
          <Box sx={{ fontWeight: 650, color: f.severity === 'error' ? 'error.main' : 'text.primary' }}>{f.message}</Box>
          <Box component="pre" sx={{ fontFamily: mono, fontSize: 12, m: 0, overflow: 'auto' }} tabIndex={0}>
            {`${f.file}${f.line ? `:${f.line}` : ''}${f.col ? `:${f.col}` : ''}  [${f.code}]`}
            {f.excerpt && `\n${String(f.line).padStart(5)} | ${f.excerpt}${f.col ? `\n      | ${' '.repeat(f.col - 1)}^` : ''}`}
          </Box>
          {f.fix && <Box sx={{ color: 'text.secondary', whiteSpace: 'pre-wrap' }}>{f.fix}</Box>}
        </Box>
      ))}
    </Paper>
  );
}
