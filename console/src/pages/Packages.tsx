import Box from '@mui/material/Box';
import TextField from '@mui/material/TextField';
import { useState } from 'react';
import { Link, useNavigate, useParams, useSearchParams } from 'react-router';
import { api, take, type Package } from '../api/client';
import { useKeys } from '../keys';
import { useNewest } from '../paged';
import { Choice } from '../parts/Choice';
import { ListPage } from '../parts/ListPage';
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
  const list = useNewest(
    ['packages', project, kind, text],
    10_000,
    async (before) => {
      const query = { ...(kind && { kind }), ...(hash ? { sha256: hash } : text && { version: text }), ...before };
      return take(await api.GET('/api/v1/projects/{project}/packages', { params: { path: { project }, query } }));
    },
    (page) => page.packages,
  );
  return (
    <ListPage
      title="Packages"
      label="Packages"
      narrow={
        <>
          <TextField
            size="small"
            label="Version, build or SHA-256"
            value={text}
            onChange={(e) => setText(e.target.value.trim())}
          />
          <Choice label="Kind" name="kind" options={{ '': 'any', ...kinds }} />
        </>
      }
      of={list}
      none={
        kind || text
          ? 'No package of that kind.'
          : 'No packages yet. A step checklist = { files = ["out/signed/*"] } looks into them.'
      }
      heads={['Package', 'Kind', 'Version', 'Size', 'Checklist', 'Run', 'SHA-256']}
      row={(p) => ({ key: String(p.id), cells: cells(p, project) })}
    />
  );
}
