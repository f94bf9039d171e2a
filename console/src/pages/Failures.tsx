import Box from '@mui/material/Box';
import TextField from '@mui/material/TextField';
import { useState } from 'react';
import { Link, useNavigate, useParams } from 'react-router';
import { api, take, type KnownFailure } from '../api/client';
import { useKeys } from '../keys';
import { useSkipped } from '../paged';
import { ListPage } from '../parts/ListPage';
import { stateColour } from '../parts/StateMark';
import { ago } from '../text';
import { mono } from '../theme';

function cells(f: KnownFailure, project: string) {
  const of = `/${encodeURIComponent(project)}`;
  const run = (n: number) => (
    <Box component={Link} to={`${of}/${n}`} sx={{ color: 'primary.main', whiteSpace: 'nowrap' }}>
      run {n}
    </Box>
  );
  return [
    <Box key="n" component="span" sx={{ fontWeight: 650 }}>
      {f.times} ×
    </Box>,
    <Box key="w">
      <Box sx={{ fontWeight: 600 }}>
        {f.cause ? (
          <Box component={Link} to={`${of}/failures/${encodeURIComponent(f.cause)}`} sx={{ color: 'text.primary' }}>
            {f.title}
          </Box>
        ) : (
          'of no known cause'
        )}
      </Box>
      <Box sx={{ fontFamily: mono, fontSize: 12, overflowWrap: 'anywhere' }}>{f.said}</Box>
    </Box>,
    <Box key="p">
      {f.job}
      {f.step && ` › ${f.step}`}
      <Box sx={{ fontSize: 12, color: 'text.secondary' }}>{f.pipeline}</Box>
    </Box>,
    <Box key="l">
      {run(f.last_run)}, {ago(f.last)}
      {f.times > 1 && (
        <Box sx={{ fontSize: 12, color: 'text.secondary' }}>
          first {run(f.first_run)}, {ago(f.first)}
        </Box>
      )}
    </Box>,
    <Box key="g">
      {f.still && (
        <Box sx={{ color: stateColour('failed'), fontWeight: 600 }}>{f.gone ? 'it is back' : 'still there'}</Box>
      )}
      {f.gone && (
        <Box>
          {f.still ? 'went away before with ' : 'with '}
          {run(f.gone.run)}: {f.gone.subject}
        </Box>
      )}
    </Box>,
  ];
}

/** What failed in a project, each failure once: how often, since when, and what ended it. */
export default function Failures() {
  const { project = '' } = useParams();
  const go = useNavigate();
  const [text, setText] = useState('');
  useKeys({ u: () => void go(`/${encodeURIComponent(project)}`) });
  const list = useSkipped(
    ['failures', project, text],
    15_000,
    async (skip) =>
      take(
        await api.GET('/api/v1/projects/{project}/failures', {
          params: { path: { project }, query: { ...(text && { contains: text }), skip } },
        }),
      ),
    (page) => page.failures,
  );
  return (
    <ListPage
      title="Failures"
      label="Failures, the latest first"
      narrow={
        <TextField size="small" label="In what was said" value={text} onChange={(e) => setText(e.target.value)} />
      }
      of={list}
      none={text ? 'No failure with that in it.' : 'Nothing has failed yet.'}
      heads={['Runs', 'What', 'Where', 'Seen last', 'Went away']}
      row={(f) => ({ key: `${f.job} ${f.step} ${f.cause} ${f.first_run} ${f.said}`, cells: cells(f, project) })}
    />
  );
}
