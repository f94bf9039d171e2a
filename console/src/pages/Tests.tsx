import Box from '@mui/material/Box';
import TextField from '@mui/material/TextField';
import { useState } from 'react';
import { Link, useNavigate, useParams, useSearchParams } from 'react-router';
import { api, take, type TestCase } from '../api/client';
import { useKeys } from '../keys';
import { useSkipped } from '../paged';
import { Choice } from '../parts/Choice';
import { ListPage } from '../parts/ListPage';
import { CaseResult } from '../parts/CaseResult';
import { stateColour } from '../parts/StateMark';
import { ago, span } from '../text';

const shows = {
  '': 'failing now',
  flaky: 'flaky',
  slow: 'slowest',
  slower: 'slower than they were',
  new: 'new',
  gone: 'gone',
  aside: 'set aside',
  all: 'all, by name',
} as const;

type Show = Exclude<keyof typeof shows, ''>;

/** What is to be known of a case, in a few words. */
export function Stands({ of, project }: { of: TestCase; project: string }) {
  const to = (run: number) => `/${encodeURIComponent(project)}/${run}`;
  return (
    <Box component="span">
      {of.failing_since && (
        <Box component="span" sx={{ color: stateColour('failed') }}>
          fails since <Link to={to(of.failing_since)}>run {of.failing_since}</Link>{' '}
        </Box>
      )}
      {of.flaky && (
        <Box component="span" sx={{ color: stateColour('timed-out') }}>
          flaky {of.flaky} ×, last in <Link to={to(of.flaky_run ?? 0)}>run {of.flaky_run}</Link>{' '}
        </Box>
      )}
      {of.aside && (
        <Box component="span" sx={{ color: stateColour('waiting') }}>
          set aside until {new Date(of.aside.until).toLocaleDateString()}: {of.aside.reason}
        </Box>
      )}
    </Box>
  );
}

function cells(t: TestCase, project: string) {
  const of = `/${encodeURIComponent(project)}`;
  return [
    <CaseResult key="r" result={t.result} />,
    <Box key="n" sx={{ overflowWrap: 'anywhere' }}>
      <Box component="span" sx={{ color: 'text.secondary' }}>
        {t.suite} ›{' '}
      </Box>
      <Box component={Link} to={`${of}/tests/${t.id}`} sx={{ color: 'primary.main', fontWeight: 600 }}>
        {t.name}
      </Box>
    </Box>,
    span(t.took_ms),
    t.usual_ms === undefined ? '' : span(t.usual_ms),
    <Box key="f" component="span" sx={{ whiteSpace: 'nowrap' }}>
      {t.failures} of {t.runs}
    </Box>,
    <Stands key="s" of={t} project={project} />,
    <Box key="l" component="span" sx={{ whiteSpace: 'nowrap' }}>
      <Box component={Link} to={`${of}/${t.last_run}`} sx={{ color: 'primary.main' }}>
        run {t.last_run}
      </Box>
      , {ago(t.last)}
    </Box>,
  ];
}

/** The test cases of a project: those that fail, are flaky, slow, new, gone, set aside. */
export default function Tests() {
  const { project = '' } = useParams();
  const go = useNavigate();
  const [search] = useSearchParams();
  const [text, setText] = useState('');
  useKeys({ u: () => void go(`/${encodeURIComponent(project)}`) });
  const word = search.get('show') ?? '';
  const show = word !== '' && word in shows ? (word as Show) : 'failing';
  const list = useSkipped(
    ['tests', project, show, text],
    15_000,
    async (skip) =>
      take(
        await api.GET('/api/v1/projects/{project}/tests', {
          params: { path: { project }, query: { show, ...(text && { contains: text }), skip } },
        }),
      ),
    (page) => page.cases,
  );
  const n = list.first;
  return (
    <ListPage
      title="Tests"
      label="Test cases"
      narrow={
        <>
          {n && (
            <span>
              {n.all} cases, {n.failing} failing, {n.flaky} flaky, {n.aside} set aside
            </span>
          )}
          <TextField size="small" label="Suite or name" value={text} onChange={(e) => setText(e.target.value)} />
          <Choice label="Show" name="show" options={shows} />
        </>
      }
      of={list}
      none={
        n && n.all === 0
          ? 'No test cases yet: a step that names its test_reports tells of them.'
          : `None that is ${shows[word in shows ? (word as Show) : '']}.`
      }
      heads={['Last', 'Case', 'Took', 'Usually', 'Failed', 'How it stands', 'Ran last']}
      row={(t) => ({ key: String(t.id), cells: cells(t, project) })}
    />
  );
}
