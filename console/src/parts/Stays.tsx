import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { Link } from 'react-router';
import { api, done, take, type RunDetail, type Stay } from '../api/client';
import { useMe } from '../me';
import { count } from '../text';

/** Workspaces that stay, of a project or on a runner. */
export function useStays(of: { project?: string; runner?: string }) {
  return useQuery({
    queryKey: ['stays', of.project, of.runner],
    refetchInterval: 5_000,
    queryFn: async () => take(await api.GET('/api/v1/stays', { params: { query: { ...of, limit: 100 } } })),
  });
}

/** How a workspace that stays stands, in words. */
export function stayWord(s: Stay, now = Date.now()): string {
  if (s.state === 'asked') return `stays for ${s.minutes} min once its job has ended`;
  if (s.state === 'over' || !s.until) return `stays no longer${s.why ? `: ${s.why}` : ''}`;
  const left = Math.max(1, Math.round((Date.parse(s.until) - now) / 60_000));
  const long = left < 90 ? `${left} min` : `${(left / 60).toFixed(1)} h`;
  return `stays for ${long} more${s.shells > 0 ? `, ${count(s.shells, 'shell')} open` : ''}`;
}

const path = (s: { project: string; run: number; job: string }) => ({
  params: { path: { project: s.project, number: s.run, job: s.job } },
});

function useStayActs() {
  const queries = useQueryClient();
  const onSettled = () => void queries.invalidateQueries({ queryKey: ['stays'] });
  const ask = useMutation({
    mutationFn: async (s: { project: string; run: number; job: string }) =>
      take(
        await api.PUT('/api/v1/projects/{project}/runs/{number}/jobs/{job}/stay', {
          ...path(s),
          body: { minutes: 15 },
        }),
      ),
    onSettled,
  });
  const letGo = useMutation({
    mutationFn: async (s: { project: string; run: number; job: string }) =>
      done(await api.DELETE('/api/v1/projects/{project}/runs/{number}/jobs/{job}/stay', path(s))),
    onSettled,
  });
  return { ask, letGo, error: ask.error ?? letGo.error };
}

/** A workspace that stays, and what can be done with it. */
export function StayLine({ of, named }: { of: Stay; named?: boolean }) {
  const acts = useStayActs();
  const mayBuild = useMe().may('builder', of.project);
  const at = `/${encodeURIComponent(of.project)}/${of.run}`;
  return (
    <Box sx={{ display: 'flex', flexWrap: 'wrap', alignItems: 'center', columnGap: 1.5 }}>
      <span>
        {named && (
          <>
            <Box component={Link} to={at} sx={{ color: 'primary.main' }}>
              {of.project} {of.run}
            </Box>
            {', '}
          </>
        )}
        {named ? 'the' : 'The'} workspace of <b>{of.job}</b> {stayWord(of)}, on {of.runner}.
      </span>
      {mayBuild && of.state === 'stays' && (
        <Button size="small" variant="outlined" component={Link} to={`${at}/shell/${encodeURIComponent(of.job)}`}>
          Look around
        </Button>
      )}
      {mayBuild && of.state === 'stays' && (
        <Button size="small" onClick={() => acts.ask.mutate(of)}>
          15 min from now
        </Button>
      )}
      {mayBuild && (
        <Button size="small" onClick={() => acts.letGo.mutate(of)}>
          Let go
        </Button>
      )}
      {acts.error && <Box sx={{ color: 'state.bad' }}>{acts.error.message}</Box>}
    </Box>
  );
}

/** Leads into the workspace of a job, where it stays. */
export function LookAround({ project, run, job }: { project: string; run: number; job: string }) {
  const stays = useStays({ project });
  const mayBuild = useMe().may('builder', project);
  if (!mayBuild || !stays.data?.some((s) => s.run === run && s.job === job && s.state === 'stays')) return null;
  return (
    <Button
      size="small"
      variant="outlined"
      component={Link}
      to={`/${encodeURIComponent(project)}/${run}/shell/${encodeURIComponent(job)}`}
      sx={{ my: -0.5 }}
    >
      Look around
    </Button>
  );
}

/** What of a run stays for a look around; while it runs, whose workspace is to. */
export function RunStays({ run }: { run: RunDetail }) {
  const stays = useStays({ project: run.project });
  const acts = useStayActs();
  const mayBuild = useMe().may('builder', run.project);
  const of = stays.data?.filter((s) => s.run === run.number) ?? [];
  const atWork = run.jobs.filter((j) => j.state === 'running' && !of.some((s) => s.job === j.name));
  if (of.length === 0 && (atWork.length === 0 || !mayBuild)) return null;
  return (
    <Box
      component="section"
      aria-label="Look around"
      sx={{ p: 1.5, borderTop: 1, borderColor: 'divider', fontSize: 12, display: 'grid', gap: 0.5 }}
    >
      {of.map((s) => (
        <StayLine key={`${s.job} ${s.attempt}`} of={s} />
      ))}
      {mayBuild &&
        atWork.map((j) => (
          <Box key={j.name}>
            <Button
              size="small"
              onClick={() => acts.ask.mutate({ project: run.project, run: run.number, job: j.name })}
            >
              Let the workspace of {j.name} stay
            </Button>
          </Box>
        ))}
      {acts.error && <Box sx={{ color: 'state.bad' }}>{acts.error.message}</Box>}
    </Box>
  );
}
