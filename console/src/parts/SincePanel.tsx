import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Paper from '@mui/material/Paper';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'react-router';
import { api, take, type RunDetail } from '../api/client';
import { count } from '../text';
import { Differences } from './Differences';
import { FirstBad } from './FirstBad';

/** What has changed since the pipeline last passed: the first question after a failure. */
export function SincePanel({ run }: { run: RunDetail }) {
  const [open, setOpen] = useState(false);
  const since = useQuery({
    queryKey: ['since', run.project, run.number, run.state],
    queryFn: async () =>
      take(
        await api.GET('/api/v1/projects/{project}/runs/{number}/since', {
          params: { path: { project: run.project, number: run.number } },
        }),
      ),
  });
  const d = since.data;
  if (!d) return null;
  const kinds = [
    ['definition', d.definition],
    ['tool', d.tools],
    ['cache', d.caches],
    ['secret', d.secrets],
    ['runner', d.runners],
  ] as const;
  const others = kinds.reduce((n, [, list]) => n + list.length, 0);
  const first = d.commits[0];
  return (
    <Paper
      component="section"
      aria-label="What has changed since it last passed"
      sx={{ px: 1.5, py: 1, m: 1.5, mb: 0 }}
    >
      <Box sx={{ display: 'flex', gap: 1.5, alignItems: 'baseline' }}>
        {d.run === 0 ? (
          <span>No run of this pipeline has passed before.</span>
        ) : (
          <>
            <Box component="span" sx={{ flexGrow: 1 }}>
              Since{' '}
              <Box component={Link} to={`/${encodeURIComponent(run.project)}/${d.run}`} sx={{ color: 'primary.main' }}>
                run {d.run}
              </Box>
              , which passed:{' '}
              {d.commits.length + others === 0 ? (
                'nothing has changed; the same may pass when it is started again.'
              ) : (
                <>
                  {count(d.commits.length, 'commit')}
                  {kinds
                    .filter(([, list]) => list.length > 0)
                    .map(([word, list]) => `, ${count(list.length, `${word} difference`)}`)
                    .join('')}
                  {!open && first && (
                    <Box component="span" sx={{ color: 'text.secondary' }}>
                      {' '}
                      — {first.subject}
                    </Box>
                  )}
                </>
              )}
            </Box>
            <Button
              size="small"
              component={Link}
              to={`/${encodeURIComponent(run.project)}/${run.number}/against/${d.run}`}
              title={`The log beside that of run ${d.run}`}
            >
              Compare logs
            </Button>
            {d.commits.length + others > 0 && (
              <Button size="small" aria-expanded={open} onClick={() => setOpen(!open)}>
                {open ? 'Less' : 'What changed'}
              </Button>
            )}
          </>
        )}
      </Box>
      {open && (
        <Box sx={{ mt: 0.5, maxHeight: 180, overflow: 'auto', fontSize: 12 }} tabIndex={0} aria-label="Changes">
          <Differences of={d} />
        </Box>
      )}
      {run.failure && run.branch && d.run > 0 && !run.outside && !run.proposal && (
        <FirstBad project={run.project} run={run.number} job={run.failure.job} among={d.commits.length} />
      )}
    </Paper>
  );
}
