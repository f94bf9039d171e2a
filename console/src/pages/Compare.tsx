import { useRef } from 'react';
import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import MenuItem from '@mui/material/MenuItem';
import TextField from '@mui/material/TextField';
import Typography from '@mui/material/Typography';
import useMediaQuery from '@mui/material/useMediaQuery';
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { Link, useNavigate, useParams, useSearchParams } from 'react-router';
import { api, take, type LogComparison, type LogDifference } from '../api/client';
import { besides, caveats, differing, type Beside } from '../compared';
import { useKeys } from '../keys';
import { LineText } from '../parts/LineText';
import { count } from '../text';
import { mono } from '../theme';

type Line = LogDifference['was'][number];

const cell = { verticalAlign: 'top', whiteSpace: 'pre-wrap', overflowWrap: 'anywhere' } as const;
const number = { ...cell, color: 'text.secondary', textAlign: 'right', pr: 1, userSelect: 'none' } as const;
const marks = {
  was: { sign: '−', tint: 'var(--mui-palette-text-secondary)' },
  is: { sign: '+', tint: 'var(--mui-palette-state-busy)' },
} as const;

/** A line of one of the logs: its number, a sign where it differs, and its text. */
function Side({ line, side, same }: { line?: Line; side: 'was' | 'is'; same: boolean }) {
  const { sign, tint } = marks[side];
  const differs = !same && line !== undefined;
  const ground = differs ? { bgcolor: `color-mix(in srgb, ${tint} 14%, transparent)` } : {};
  return (
    <>
      <Box component="td" sx={{ ...number, ...ground }}>
        {line?.n}
      </Box>
      <Box component="td" sx={{ ...cell, ...ground, color: same ? 'text.secondary' : 'text.primary' }}>
        {differs && (
          <Box component="span" sx={{ color: tint, fontWeight: 700 }}>
            {sign}{' '}
          </Box>
        )}
        {line && <LineText text={line.x} />}
      </Box>
    </>
  );
}

const Hidden = ({ n, span }: { n: number; span: number }) => (
  <tr>
    <Box component="td" colSpan={span} sx={{ textAlign: 'center', color: 'text.secondary', py: 0.5 }}>
      {count(n, 'line is', 'lines are')} the same
    </Box>
  </tr>
);

/** Both logs beside each other, or below each other where there is no room. */
function Both({ of, wide }: { of: LogComparison; wide: boolean }) {
  const row = (b: Beside, i: number) => {
    if ('hidden' in b) return <Hidden key={i} n={b.hidden} span={wide ? 4 : 2} />;
    if (wide || b.same)
      return (
        <tr key={i} data-part={b.part}>
          {wide && <Side line={b.was} side="was" same={b.same} />}
          <Side line={b.is} side="is" same={b.same} />
        </tr>
      );
    return (['was', 'is'] as const).map(
      (side) =>
        b[side] && (
          <tr key={`${i} ${side}`} data-part={b.part}>
            <Side line={b[side]} side={side} same={false} />
          </tr>
        ),
    );
  };
  const head = (s: LogComparison['was']) => `run ${s.run}, ${s.state}, ${count(s.lines, 'line')}`;
  return (
    <Box
      component="table"
      aria-label="Both logs"
      sx={{
        width: '100%',
        tableLayout: 'fixed',
        borderCollapse: 'collapse',
        fontFamily: mono,
        fontSize: 12,
        lineHeight: 1.5,
      }}
    >
      <colgroup>
        {Array.from({ length: wide ? 2 : 1 }, (_, i) => [
          <col key={`n${i}`} style={{ width: '7ch' }} />,
          <col key={`t${i}`} />,
        ])}
      </colgroup>
      <thead>
        <tr>
          {wide && (
            <Box component="th" colSpan={2} scope="col" sx={{ textAlign: 'left', px: 1 }}>
              {head(of.was)}
            </Box>
          )}
          <Box component="th" colSpan={2} scope="col" sx={{ textAlign: 'left', px: 1 }}>
            {wide ? head(of.is) : `− ${head(of.was)}; + ${head(of.is)}`}
          </Box>
        </tr>
      </thead>
      <tbody>{besides(of).map(row)}</tbody>
    </Box>
  );
}

/** In what the log of a job differs from that of another run. */
export default function ComparePage() {
  const params = useParams();
  const project = params.project ?? '';
  const run = Number(params.number);
  const other = Number(params.other);
  const [search, setSearch] = useSearchParams();
  const job = search.get('job') ?? '';
  const go = useNavigate();
  const wide = useMediaQuery('(min-width: 800px)', { noSsr: true });
  const place = { project, number: run };
  const detail = useQuery({
    queryKey: ['run', project, run],
    queryFn: async () => take(await api.GET('/api/v1/projects/{project}/runs/{number}', { params: { path: place } })),
  });
  const meant = job || detail.data?.failure?.job || detail.data?.jobs[0]?.name || '';
  const compared = useQuery({
    queryKey: ['compared', project, run, other, meant],
    enabled: meant !== '',
    placeholderData: keepPreviousData,
    queryFn: async () =>
      take(
        await api.GET('/api/v1/projects/{project}/runs/{number}/jobs/{job}/log/against', {
          params: { path: { ...place, job: meant }, query: { run: other } },
        }),
      ),
  });
  const d = compared.data;
  const at = useRef(-1);
  const step = (by: number) => {
    const list = d ? differing(d) : [];
    at.current = Math.min(Math.max(at.current + by, 0), list.length - 1);
    document.querySelector(`[data-part="${list[at.current]}"]`)?.scrollIntoView({ block: 'center' });
  };
  const back = `/${encodeURIComponent(project)}/${run}`;
  useKeys({ n: () => step(1), N: () => step(-1), u: () => void go(back) });
  const error = detail.error ?? compared.error;
  return (
    <Box sx={{ p: 2 }}>
      <Box sx={{ display: 'flex', flexWrap: 'wrap', alignItems: 'center', gap: 1.5, mb: 1.5 }}>
        <Typography variant="h1" sx={{ flexGrow: 1 }}>
          <Box component={Link} to={back} sx={{ color: 'primary.main' }}>
            Run {run}
          </Box>{' '}
          beside{' '}
          <Box component={Link} to={`/${encodeURIComponent(project)}/${other}`} sx={{ color: 'primary.main' }}>
            run {other}
          </Box>
          {d && (
            <Box component="span" sx={{ fontSize: 13, fontWeight: 400, color: 'text.secondary', ml: 1.5 }}>
              {d.different === 0
                ? 'nothing differs but times, hashes and the like'
                : `${count(d.different, 'line differs', 'lines differ')}, times, hashes and the like left out`}
            </Box>
          )}
        </Typography>
        <TextField
          select
          size="small"
          label="Job"
          value={detail.data ? meant : ''}
          onChange={(e) => setSearch({ job: e.target.value }, { replace: true })}
          sx={{ minWidth: 140 }}
        >
          {(detail.data?.jobs ?? []).map((j) => (
            <MenuItem key={j.name} value={j.name}>
              {j.name}
            </MenuItem>
          ))}
        </TextField>
        <Button size="small" variant="outlined" disabled={!d?.different} onClick={() => step(1)}>
          Next difference
        </Button>
      </Box>
      {error && (
        <Alert severity="error" variant="outlined">
          {error.message}
        </Alert>
      )}
      {d && caveats(d).map((text) => <Box key={text}>{text}</Box>)}
      {d && !error && (
        <Box sx={{ border: 1, borderColor: 'divider', borderRadius: 1, bgcolor: 'background.paper', py: 1 }}>
          <Both of={d} wide={wide} />
        </Box>
      )}
    </Box>
  );
}
