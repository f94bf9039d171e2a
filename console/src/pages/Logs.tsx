import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Checkbox from '@mui/material/Checkbox';
import FormControlLabel from '@mui/material/FormControlLabel';
import Paper from '@mui/material/Paper';
import TextField from '@mui/material/TextField';
import Typography from '@mui/material/Typography';
import { useInfiniteQuery } from '@tanstack/react-query';
import { useEffect, useState } from 'react';
import { Link, useNavigate, useParams, useSearchParams } from 'react-router';
import { api, take, type LogHit } from '../api/client';
import { useKeys } from '../keys';
import { LineText } from '../parts/LineText';
import { count } from '../text';
import { mono } from '../theme';

/** How many hits are shown before one is asked whether to go on. */
const enough = 200;

function Hit({ hit, project }: { hit: LogHit; project: string }) {
  const to = `/${encodeURIComponent(project)}/${hit.run}?job=${encodeURIComponent(hit.job)}&line=${hit.line.n}`;
  return (
    <Box sx={{ display: 'flex', gap: 1.5, fontFamily: mono, fontSize: 12, minHeight: 24, px: 1.5, py: '2px' }}>
      <Box component={Link} to={to} sx={{ color: 'primary.main', flexShrink: 0, whiteSpace: 'nowrap' }}>
        run {hit.run} {hit.job}:{hit.line.n}
      </Box>
      <Box component="span" sx={{ whiteSpace: 'pre-wrap', overflowWrap: 'anywhere' }}>
        <LineText text={hit.line.x} />
      </Box>
    </Box>
  );
}

/** Looks for text in the logs of all runs of a project, the latest first. */
export default function Logs() {
  const { project = '' } = useParams();
  const go = useNavigate();
  const [search, setSearch] = useSearchParams();
  useKeys({ u: () => void go(`/${encodeURIComponent(project)}`) });
  const text = search.get('for') ?? '';
  const pattern = search.get('pattern') === 'true';
  const [typed, setTyped] = useState(text);
  const found = useInfiniteQuery({
    queryKey: ['logs', project, text, pattern],
    enabled: text !== '',
    initialPageParam: '',
    queryFn: async ({ pageParam }) =>
      take(
        await api.GET('/api/v1/projects/{project}/logs', {
          params: { path: { project }, query: { for: text, pattern, ...(pageParam && { after: pageParam }) } },
        }),
      ),
    getNextPageParam: (page) => page.next,
  });
  const hits = found.data?.pages.flatMap((p) => p.hits) ?? [];
  const looked = found.data?.pages.reduce((n, p) => n + p.looked, 0) ?? 0;
  // A request looks for a short while: the next one follows until there is enough to look at.
  const { hasNextPage, isFetching, fetchNextPage, error } = found;
  useEffect(() => {
    if (hasNextPage && !isFetching && !error && hits.length < enough) void fetchNextPage();
  }, [hasNextPage, isFetching, error, fetchNextPage, hits.length]);
  const look = (on: { for?: string; pattern?: boolean }) =>
    setSearch({ for: on.for ?? typed, ...((on.pattern ?? pattern) && { pattern: 'true' }) }, { replace: true });
  return (
    <Box sx={{ p: 2, maxWidth: 1280, mx: 'auto' }}>
      <Box
        component="form"
        role="search"
        onSubmit={(e) => {
          e.preventDefault();
          look({});
        }}
        sx={{ display: 'flex', alignItems: 'center', gap: 1.5, mb: 1.5, flexWrap: 'wrap' }}
      >
        <Typography variant="h1" sx={{ flexGrow: 1 }}>
          Logs
        </Typography>
        <TextField
          size="small"
          label="Find in all logs"
          autoFocus
          value={typed}
          onChange={(e) => setTyped(e.target.value)}
          sx={{ width: { xs: '100%', sm: 320 } }}
        />
        <FormControlLabel
          control={<Checkbox size="small" checked={pattern} onChange={(e) => look({ pattern: e.target.checked })} />}
          label="Pattern"
        />
        <Button variant="contained" type="submit" disabled={typed === ''}>
          Find
        </Button>
      </Box>
      {error && (
        <Alert severity="error" variant="outlined">
          {error.message}
        </Alert>
      )}
      {text && (
        <Box role="status" sx={{ mb: 1, color: 'text.secondary' }}>
          {count(hits.length, 'line')} in {count(looked, 'log')}
          {isFetching ? ', looking on …' : hasNextPage ? ', and there may be more' : ', which are all'}
        </Box>
      )}
      {hits.length > 0 && (
        <Paper sx={{ py: 0.5 }}>
          {hits.map((h) => (
            <Hit key={`${h.run} ${h.job} ${h.attempt} ${h.line.n}`} hit={h} project={project} />
          ))}
        </Paper>
      )}
      {hasNextPage && !isFetching && hits.length >= enough && (
        <Button sx={{ mt: 1 }} onClick={() => void fetchNextPage()}>
          Look on
        </Button>
      )}
    </Box>
  );
}
