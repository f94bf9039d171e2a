import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Paper from '@mui/material/Paper';
import TextField from '@mui/material/TextField';
import Typography from '@mui/material/Typography';
import { keepPreviousData, useInfiniteQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link, useNavigate, useParams, useSearchParams } from 'react-router';
import { api, take, type Package } from '../api/client';
import { useKeys } from '../keys';
import { More } from '../paged';
import { Choice } from '../parts/Choice';
import { List } from '../parts/List';
import { Says } from '../parts/Says';
import { ago, size } from '../text';
import { mono } from '../theme';

const kinds = { apk: 'APK', 'app-bundle': 'app bundle', ipa: 'IPA' } as const;

function cells(p: Package, project: string) {
  const of = `/${encodeURIComponent(project)}`;
  return [
    <Box key="f" component={Link} to={`${of}/packages/${p.id}`} sx={{ color: 'primary.main', fontWeight: 600 }}>
      {p.file.split('/').pop()}
    </Box>,
    kinds[p.kind],
    <Box key="v">
      {p.version} ({p.build})<Box sx={{ fontSize: 12, color: 'text.secondary' }}>{p.app}</Box>
    </Box>,
    size(p.size),
    <Says key="s" of={p} />,
    <Box key="r">
      <Box component={Link} to={`${of}/${p.run}`} sx={{ color: 'primary.main' }}>
        {p.pipeline} run {p.run}
      </Box>
      <Box sx={{ fontSize: 12, color: 'text.secondary' }}>
        {p.branch} <span style={{ fontFamily: mono }}>{p.commit.slice(0, 9)}</span>,{' '}
        <time dateTime={p.at}>{ago(p.at)}</time>
      </Box>
    </Box>,
    <Box key="h" sx={{ fontFamily: mono, fontSize: 12 }}>
      {p.sha256.slice(0, 16)}
    </Box>,
  ];
}

/** The packages that runs have made, newest first: found again by version, commit or hash. */
export default function Packages() {
  const { project = '' } = useParams();
  const go = useNavigate();
  const [search] = useSearchParams();
  const [text, setText] = useState('');
  useKeys({ u: () => void go(`/${encodeURIComponent(project)}`) });
  const word = search.get('kind') ?? '';
  const kind = word in kinds ? (word as keyof typeof kinds) : undefined;
  const hash = /^[0-9a-f]{7,64}$/.test(text) ? text : '';
  const pages = useInfiniteQuery({
    queryKey: ['packages', project, kind, text],
    initialPageParam: 0,
    placeholderData: keepPreviousData,
    refetchInterval: 10_000,
    queryFn: async ({ pageParam }) => {
      const query = {
        ...(kind && { kind }),
        ...(hash ? { sha256: hash } : text && { version: text }),
        ...(pageParam && { before: pageParam }),
      };
      return take(await api.GET('/api/v1/projects/{project}/packages', { params: { path: { project }, query } }));
    },
    getNextPageParam: (page) => page.next,
  });
  const list = pages.data?.pages.flatMap((p) => p.packages) ?? [];
  return (
    <Box sx={{ p: 2, maxWidth: 1280, mx: 'auto' }}>
      <Box sx={{ display: 'flex', alignItems: 'center', gap: 1.5, mb: 1.5, flexWrap: 'wrap' }}>
        <Typography variant="h1" sx={{ flexGrow: 1 }}>
          Packages
        </Typography>
        <TextField
          size="small"
          label="Version, build or SHA-256"
          value={text}
          onChange={(e) => setText(e.target.value.trim())}
        />
        <Choice label="Kind" name="kind" options={{ '': 'any', ...kinds }} />
      </Box>
      {pages.error && (
        <Alert severity="error" variant="outlined" sx={{ mb: 1.5 }}>
          {pages.error.message}
        </Alert>
      )}
      {pages.data && list.length === 0 && (
        <Alert severity="info" variant="outlined">
          {kind || text
            ? 'No package of that kind.'
            : 'No packages yet. A step checklist = { files = ["out/signed/*"] } looks into them.'}
        </Alert>
      )}
      {list.length > 0 && (
        <Paper sx={{ overflowX: 'auto' }}>
          <List
            label="Packages"
            heads={['Package', 'Kind', 'Version', 'Size', 'Checklist', 'Run', 'SHA-256']}
            rows={list.map((p) => ({ key: String(p.id), cells: cells(p, project) }))}
          />
        </Paper>
      )}
      <More of={{ more: pages.hasNextPage ? () => void pages.fetchNextPage() : undefined }} />
    </Box>
  );
}
