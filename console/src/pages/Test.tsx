import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Paper from '@mui/material/Paper';
import TextField from '@mui/material/TextField';
import Typography from '@mui/material/Typography';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Link, useNavigate, useParams } from 'react-router';
import { api, done, take, type TestHistory } from '../api/client';
import { useKeys } from '../keys';
import { useMe } from '../me';
import { CaseResult } from '../parts/CaseResult';
import { Course } from '../parts/Charts';
import { Differences } from '../parts/Differences';
import { FormDialog } from '../parts/FormDialog';
import { List } from '../parts/List';
import { stateColour } from '../parts/StateMark';
import { ago, span } from '../text';
import { changed } from '../times';
import { mono } from '../theme';
import { Stands } from './Tests';
import { Scrolled } from '../parts/Scrolled';

/** Sets a case aside until a day, or takes that back. */
function Aside({ of, project }: { of: TestHistory; project: string }) {
  const queries = useQueryClient();
  const [open, setOpen] = useState(false);
  const [reason, setReason] = useState('');
  const [until, setUntil] = useState('');
  const at = { params: { path: { project, id: of.id } } };
  const back = useMutation({
    mutationFn: async () => done(await api.DELETE('/api/v1/projects/{project}/tests/{id}/aside', at)),
    onSuccess: () => queries.invalidateQueries({ queryKey: ['test'] }),
  });
  if (of.aside)
    return (
      <Button variant="outlined" onClick={() => back.mutate()} disabled={back.isPending}>
        No longer set aside
      </Button>
    );
  return (
    <>
      <Button variant="outlined" onClick={() => setOpen(true)}>
        Set aside …
      </Button>
      {open && (
        <FormDialog
          title="Set this case aside"
          act="Set aside"
          changes="test"
          close={() => setOpen(false)}
          run={async () =>
            take(
              await api.PUT('/api/v1/projects/{project}/tests/{id}/aside', {
                ...at,
                body: { reason, until: new Date(`${until}T23:59:59`).toISOString() },
              }),
            )
          }
        >
          <Box>Until that day its failure fails nothing. It is still run, and shown.</Box>
          <TextField label="Why" required value={reason} onChange={(e) => setReason(e.target.value)} autoFocus />
          <TextField
            label="Last day"
            type="date"
            required
            value={until}
            onChange={(e) => setUntil(e.target.value)}
            slotProps={{ inputLabel: { shrink: true } }}
          />
        </FormDialog>
      )}
    </>
  );
}

/** All of one test case: how it stands, when it broke and with what, its results. */
export default function Test() {
  const { project = '', id = '' } = useParams();
  const go = useNavigate();
  const { may } = useMe();
  const of = `/${encodeURIComponent(project)}`;
  useKeys({ u: () => void go(`${of}/tests`) });
  const query = useQuery({
    queryKey: ['test', project, id],
    queryFn: async () =>
      take(await api.GET('/api/v1/projects/{project}/tests/{id}', { params: { path: { project, id: Number(id) } } })),
  });
  if (query.error)
    return (
      <Alert severity="error" variant="outlined" sx={{ m: 2 }}>
        {query.error.message}
      </Alert>
    );
  const t = query.data;
  if (!t) return null;
  const oldest = [...t.results].reverse();
  return (
    <Box sx={{ p: 2, maxWidth: 1280, mx: 'auto' }}>
      <Box sx={{ display: 'flex', alignItems: 'center', gap: 1.5, mb: 1, flexWrap: 'wrap' }}>
        <Typography variant="h1" sx={{ flexGrow: 1, overflowWrap: 'anywhere' }}>
          {t.suite} › {t.name}
        </Typography>
        {may('builder', project) && <Aside of={t} project={project} />}
      </Box>
      <Box sx={{ mb: 1.5, display: 'flex', columnGap: 2, flexWrap: 'wrap' }}>
        <CaseResult result={t.result} />
        <Stands of={t} project={project} />
        <span>
          failed {t.failures} of {t.runs} times; in job {t.job} of {t.pipeline}
          {t.usual_ms !== undefined && `; usually ${span(t.usual_ms)}`}; there since{' '}
          <Link to={`${of}/${t.first_run}`}>run {t.first_run}</Link>
        </span>
      </Box>
      {t.broke && (
        <Paper component="section" aria-label="When it broke" sx={{ p: 1.5, mb: 1.5, borderColor: 'error.main' }}>
          <Box sx={{ fontWeight: 650, color: stateColour('failed') }}>
            It broke in <Link to={`${of}/${t.broke.run}`}>run {t.broke.run}</Link>: {t.broke.subject}
          </Box>
          {t.broke.passed && (
            <Box>
              It passed in <Link to={`${of}/${t.broke.passed}`}>run {t.broke.passed}</Link>; different since:
              <Differences of={t.broke.since} />
            </Box>
          )}
        </Paper>
      )}
      <Paper component="section" aria-label="What it took" sx={{ p: 1.5, mb: 1.5 }}>
        <Typography variant="h2">What it took</Typography>
        {t.changes?.map((c) => (
          <Box key={c.run} sx={{ color: stateColour(c.now_ms > c.before_ms ? 'timed-out' : 'passed') }}>
            {changed(c)}: <span style={{ fontFamily: mono }}>{c.commit.slice(0, 9)}</span> {c.subject}
          </Box>
        ))}
        <Course
          label={`What it took in the last ${oldest.length} runs`}
          runs={oldest.map((r) => r.run)}
          values={oldest.map((r) => (r.result === 'passed' ? r.took_ms : null))}
          changes={t.changes?.map((c) => c.run) ?? []}
          height={150}
          open={(run) => void go(`${of}/${run}`)}
        />
      </Paper>
      <Scrolled>
        <List
          label="Results, the latest first"
          heads={['Run', 'Result', 'Took', 'Job', 'Branch', 'Commit', 'Said']}
          rows={t.results.map((r) => ({
            key: `${r.run} ${r.job} ${r.attempt}`,
            cells: [
              <Box key="r" component={Link} to={`${of}/${r.run}`} sx={{ color: 'primary.main', whiteSpace: 'nowrap' }}>
                {r.run}
                {r.attempt > 1 && `, try ${r.attempt}`}
              </Box>,
              <Box key="s" component="span" sx={{ whiteSpace: 'nowrap' }}>
                <CaseResult result={r.result} />
                {r.flaky && (
                  <Box component="span" sx={{ color: stateColour('timed-out') }}>
                    {' '}
                    flaky
                  </Box>
                )}
              </Box>,
              span(r.took_ms),
              r.job,
              r.branch,
              <Box key="c">
                <span style={{ fontFamily: mono }}>{r.commit.slice(0, 9)}</span> {r.subject}{' '}
                <Box component="span" sx={{ color: 'text.secondary' }}>
                  {ago(r.at)}
                </Box>
              </Box>,
              <Box key="m" sx={{ fontFamily: mono, fontSize: 12, overflowWrap: 'anywhere' }}>
                {r.message}
              </Box>,
            ],
          }))}
        />
      </Scrolled>
    </Box>
  );
}
