import Box from '@mui/material/Box';
import TextField from '@mui/material/TextField';
import { useState } from 'react';
import { Link, useNavigate, useParams, useSearchParams } from 'react-router';
import { api, take, type Release } from '../api/client';
import { useKeys } from '../keys';
import { useNewest } from '../paged';
import { Choice } from '../parts/Choice';
import { ListPage } from '../parts/ListPage';
import { buildsOf, lookOf, releaseAddress } from '../releases';
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
      <Box key="s">
        {r.went.length === 0 && 'went nowhere yet'}
        {r.went.map((w) => (
          <Box key={`${w.outlet} ${w.channel}`} sx={{ whiteSpace: 'nowrap' }}>
            <Box component="span" sx={{ color: lookOf(w.state).colour }}>
              {lookOf(w.state).sign} {w.state}
            </Box>{' '}
            {w.outlet}
            {(w.state === 'shared' || w.state === 'halted') && ` at ${w.out_to} %`}
          </Box>
        ))}
      </Box>
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
  const list = useNewest(
    ['releases', project, state, text],
    10_000,
    async (before) => {
      const query = { ...(state && { state }), ...(text && { contains: text }), ...before };
      return take(await api.GET('/api/v1/projects/{project}/releases', { params: { path: { project }, query } }));
    },
    (page) => page.releases,
  );
  return (
    <ListPage
      title="Releases"
      label="Releases"
      narrow={
        <>
          <TextField size="small" label="Version" value={text} onChange={(e) => setText(e.target.value.trim())} />
          <Choice label="State" name="state" options={{ '': 'any', standing: 'standing', withdrawn: 'withdrawn' }} />
        </>
      }
      of={list}
      none={
        state || text
          ? 'No release of that kind.'
          : 'No releases yet. A job with a step release = {} makes one of what its run has kept.'
      }
      heads={['Release', 'Build', 'How it stands', 'Of', 'Run']}
      row={(r) => ({ key: String(r.id), cells: cells(r) })}
    />
  );
}
