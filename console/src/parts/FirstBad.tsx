import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'react-router';
import { api, done, take, type Bisection } from '../api/client';
import { useMe } from '../me';
import { count } from '../text';
import { mono } from '../theme';

/** What is known of a search for the first bad change, in words. */
export function searchWord(b: Bisection): string {
  switch (b.state) {
    case 'searching':
      return (
        `Looking for the first bad change of ${b.job}: ${b.left} of ${b.among} may be it, ` +
        `at most ${count(b.most, 'try', 'tries')} to come.`
      );
    case 'chance':
      return `${b.job} passes at its own commit when it is tried again: no change is to blame, it fails by chance.`;
    case 'stopped':
      return (
        `The search for the first bad change of ${b.job} was stopped (${b.why}): ` +
        `${b.left} of ${b.among} may be it.`
      );
    case 'unclear':
      return `What broke ${b.job} is one of ${count(b.left, 'change')}; those between could not be judged.`;
    default:
      return `The first bad change of ${b.job}:`;
  }
}

const signs = {
  passed: ['✓', 'state.good'],
  failed: ['✗', 'state.bad'],
  unclear: ['?', 'text.secondary'],
} as const;

function Change({ of }: { of: { id: string; subject: string; author: string } }) {
  return (
    <>
      <Box component="span" sx={{ fontFamily: mono, fontSize: 12 }}>
        {of.id.slice(0, 9)}
      </Box>{' '}
      {of.subject}{' '}
      <Box component="span" sx={{ color: 'text.secondary' }}>
        {of.author}
      </Box>
    </>
  );
}

/** Each try of a search, and how it went. */
function Tries({ of, project }: { of: Bisection; project: string }) {
  return (
    <Box component="ul" aria-label="Tries" sx={{ listStyle: 'none', m: 0, mt: 0.5, p: 0, fontSize: 12 }}>
      {of.tries.map((t) => {
        const [sign, colour] = t.verdict ? signs[t.verdict] : (['…', 'text.secondary'] as const);
        return (
          <li key={t.id}>
            <Box component="span" sx={{ color: colour, fontWeight: 650 }}>
              {sign} {t.verdict ?? 'at work'}
            </Box>{' '}
            <Change of={t} />{' '}
            {t.run ? (
              <Box component={Link} to={`/${encodeURIComponent(project)}/${t.run}`} sx={{ color: 'primary.main' }}>
                run {t.run}
              </Box>
            ) : null}
            {t.why && (
              <Box component="span" sx={{ color: 'text.secondary', overflowWrap: 'anywhere' }}>
                : {t.why}
              </Box>
            )}
          </li>
        );
      })}
    </Box>
  );
}

function useSearches(project: string, run: number) {
  const queries = useQueryClient();
  const path = { project, number: run };
  const list = useQuery({
    queryKey: ['bisections', project, run],
    refetchInterval: (q) => (q.state.data?.some((b) => b.state === 'searching') ? 2_000 : false),
    queryFn: async () =>
      take(await api.GET('/api/v1/projects/{project}/runs/{number}/bisections', { params: { path } })),
  });
  const onSettled = () => void queries.invalidateQueries({ queryKey: ['bisections', project, run] });
  const begin = useMutation({
    mutationFn: async (job: string) =>
      take(await api.POST('/api/v1/projects/{project}/runs/{number}/bisections', { params: { path }, body: { job } })),
    onSettled,
  });
  const stop = useMutation({
    mutationFn: async (job: string) =>
      done(
        await api.DELETE('/api/v1/projects/{project}/runs/{number}/jobs/{job}/bisection', {
          params: { path: { ...path, job } },
        }),
      ),
    onSettled,
  });
  return { list: list.data ?? [], begin, stop, error: begin.error ?? stop.error };
}

/** With which of the changes since it last passed a job began to fail: found by running it at those between. */
export function FirstBad({ project, run, job, among }: { project: string; run: number; job: string; among: number }) {
  const { list, begin, stop, error } = useSearches(project, run);
  const mayBuild = useMe().may('builder', project);
  const [open, setOpen] = useState(false);
  const none = !list.some((b) => b.job === job);
  return (
    <>
      {list.map((b) => (
        <Box key={b.job} component="section" aria-label={`What broke ${b.job}`} aria-live="polite" sx={{ mt: 0.5 }}>
          <Box sx={{ display: 'flex', flexWrap: 'wrap', columnGap: 1.5, alignItems: 'baseline' }}>
            <Box component="span" sx={{ flexGrow: 1 }}>
              {b.state === 'found' ? <b>{searchWord(b)}</b> : searchWord(b)}{' '}
              {b.state === 'found' && b.suspects.map((c) => <Change key={c.id} of={c} />)}
            </Box>
            {mayBuild && b.state === 'searching' && (
              <Button size="small" onClick={() => stop.mutate(b.job)}>
                Stop
              </Button>
            )}
            {mayBuild && (b.state === 'stopped' || b.state === 'chance') && (
              <Button size="small" disabled={begin.isPending} onClick={() => begin.mutate(b.job)}>
                Search again
              </Button>
            )}
            {b.tries.length > 0 && (
              <Button size="small" aria-expanded={open} onClick={() => setOpen(!open)}>
                {open ? 'Less' : count(b.tries.length, 'try', 'tries')}
              </Button>
            )}
          </Box>
          {b.state === 'unclear' &&
            b.suspects.map((c) => (
              <Box key={c.id}>
                <Change of={c} />
              </Box>
            ))}
          {b.state === 'unclear' && b.left > b.suspects.length && <div>and {b.left - b.suspects.length} more</div>}
          {open && <Tries of={b} project={project} />}
        </Box>
      ))}
      {none && among > 1 && mayBuild && (
        <Box sx={{ mt: 0.5 }}>
          <Button
            size="small"
            variant="outlined"
            disabled={begin.isPending}
            onClick={() => begin.mutate(job)}
            title="Runs the job at changes between, by halves, on machines that nobody else wants"
          >
            Find the first bad of {among >= 100 ? 'them' : `the ${among}`}
          </Button>
        </Box>
      )}
      {error && (
        <Box role="alert" sx={{ color: 'state.bad' }}>
          {error.message}
        </Box>
      )}
    </>
  );
}
