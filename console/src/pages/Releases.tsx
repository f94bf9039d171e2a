import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Paper from '@mui/material/Paper';
import TextField from '@mui/material/TextField';
import Typography from '@mui/material/Typography';
import { keepPreviousData, useInfiniteQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link, useNavigate, useParams, useSearchParams } from 'react-router';
import { api, take, type Release } from '../api/client';
import { useKeys } from '../keys';
import { More } from '../paged';
import { Choice } from '../parts/Choice';
import { List } from '../parts/List';
import { buildsOf, releaseAddress } from '../releases';
import { ago, count, size } from '../text';
import { mono } from '../theme';

const states = ['standing', 'withdrawn'] as const;

function cells(r: Release) {
  return [
    <Box key="n" component={Link} to={releaseAddress(r)} sx={{ color: 'primary.main', fontWeight: 600 }}>
      {r.app} {r.name}
    </Box>,
    buildsOf(r),
    r.withdrawn ? (
      <Box key="s" sx={{ overflowWrap: 'anywhere' }}>
        <Box component="b" sx={{ color: 'state.bad' }}>
          ⊘ withdrawn
        </Box>{' '}
        {r.reason}
      </Box>
    ) : (
      'stands'
    ),
    `${count(r.packages, 'package')}, ${size(r.size)}`,
    <Box key="r">
      <Box component={Link} to={`/${encodeURIComponent(r.project)}/${r.run}`} sx={{ color: 'primary.main' }}>
        {r.pipeline} run {r.run}
      </Box>
      <Box sx={{ fontSize: 12, color: 'text.secondary' }}>
        {r.branch || r.tag} <span style={{ fontFamily: mono }}>{r.commit.slice(0, 9)}</span>,{' '}
        <time dateTime={r.made}>{ago(r.made)}</time>
      </Box>
    </Box>,
  ];
}

/** The versions that are to go to people, newest first. */
export default function Releases() {
  const { project = '' } = useParams();
  const go = useNavigate();
  const [search] = useSearchParams();
  const [text, setText] = useState('');
  useKeys({ u: () => void go(`/${encodeURIComponent(project)}`) });
  const state = states.find((s) => s === search.get('state'));
  const pages = useInfiniteQuery({
    queryKey: ['releases', project, state, text],
    initialPageParam: 0,
    placeholderData: keepPreviousData,
    refetchInterval: 10_000,
    queryFn: async ({ pageParam }) => {
      const query = {
        ...(state && { state }),
        ...(text && { contains: text }),
        ...(pageParam && { before: pageParam }),
      };
      return take(await api.GET('/api/v1/projects/{project}/releases', { params: { path: { project }, query } }));
    },
    getNextPageParam: (page) => page.next,
  });
  const list = pages.data?.pages.flatMap((p) => p.releases) ?? [];
  return (
    <Box sx={{ p: 2, maxWidth: 1280, mx: 'auto' }}>
      <Box sx={{ display: 'flex', alignItems: 'center', gap: 1.5, mb: 1.5, flexWrap: 'wrap' }}>
        <Typography variant="h1" sx={{ flexGrow: 1 }}>
          Releases
        </Typography>
        <TextField size="small" label="Version" value={text} onChange={(e) => setText(e.target.value.trim())} />
        <Choice label="State" name="state" options={{ '': 'any', standing: 'standing', withdrawn: 'withdrawn' }} />
      </Box>
      {pages.error && (
        <Alert severity="error" variant="outlined" sx={{ mb: 1.5 }}>
          {pages.error.message}
        </Alert>
      )}
      {pages.data && list.length === 0 && (
        <Alert severity="info" variant="outlined">
          {state || text
            ? 'No release of that kind.'
            : 'No releases yet. A job with a step release = {} makes one of what its run has kept.'}
        </Alert>
      )}
      {list.length > 0 && (
        <Paper sx={{ overflowX: 'auto' }}>
          <List
            label="Releases"
            heads={['Release', 'Build', 'How it stands', 'Of', 'Run']}
            rows={list.map((r) => ({ key: String(r.id), cells: cells(r) }))}
          />
        </Paper>
      )}
      <More of={{ more: pages.hasNextPage ? () => void pages.fetchNextPage() : undefined }} />
    </Box>
  );
}
