import { useMutation } from '@tanstack/react-query';
import { api, Refusal, take, type RunDetail } from '../api/client';
import { useMe } from '../me';
import { over } from './words';

/** What may be done with a run: stop it, or start again what failed, or all. begun is told of the run that does. */
export function useActs(project: string, number: number, run: RunDetail | undefined, begun: (n: number) => void) {
  const mayBuild = useMe().may('builder', project);
  const stop = useMutation({
    mutationFn: async () => {
      const answer = await api.POST('/api/v1/projects/{project}/runs/{number}/stop', {
        params: { path: { project, number } },
      });
      if (answer.error) throw new Refusal(answer.response.status, answer.error.detail ?? 'It could not be stopped.');
    },
  });
  const again = useMutation({
    mutationFn: async (failed: boolean) =>
      take(
        await api.POST('/api/v1/projects/{project}/runs/{number}/again', {
          params: { path: { project, number } },
          body: { failed },
        }),
      ),
    onSuccess: (r) => begun(r.number),
  });
  // A try is no run that goes on: what it is of is searched anew.
  const ended = run !== undefined && over(run.state) && run.trigger !== 'bisection';
  const open = run !== undefined && !over(run.state);
  return {
    stop,
    again,
    mayStop: mayBuild && open,
    mayStart: mayBuild && ended,
    mayMend: mayBuild && ended && run.jobs.some((j) => j.state !== 'passed'),
  };
}
