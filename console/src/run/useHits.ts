import { useInfiniteQuery } from '@tanstack/react-query';
import { useCallback, useEffect, useMemo } from 'react';
import { api, take } from '../api/client';

/** What looks like an error, to the search. */
export const errorPattern = String.raw`(?i)(^|[^\w-])(error|fatal|panic|exception|failure|failed|undefined)([^\w=]|$)`;

/** Most lines that are found at a time: who finds more looks for something else. */
const most = 2000;

/** The line after one among some in their order, or before it; around the end. */
export function beside(lines: number[], from: number, back: boolean): number | undefined {
  if (back) return lines.findLast((n) => n < from) ?? lines.at(-1);
  return lines.find((n) => n > from) ?? lines[0];
}

/** The lines of a job's log that hold a text, or fit a pattern, found by the service a part at a time. */
export function useHits(project: string, run: number, job: string, attempt: number, text: string, pattern: boolean) {
  const query = useInfiniteQuery({
    queryKey: ['hits', project, run, job, text, pattern],
    enabled: text !== '',
    retry: false,
    initialPageParam: '',
    queryFn: async ({ pageParam }) =>
      take(
        await api.GET('/api/v1/projects/{project}/logs', {
          params: {
            path: { project },
            query: { for: text, pattern, run, job, limit: 500, ...(pageParam && { after: pageParam }) },
          },
        }),
      ),
    getNextPageParam: (page) => page.next,
  });
  const { data, hasNextPage, isFetching, error, fetchNextPage } = query;
  const lines = useMemo(
    () => data?.pages.flatMap((p) => p.hits.filter((h) => h.attempt === attempt).map((h) => h.line.n)) ?? [],
    [data, attempt],
  );
  const more = hasNextPage && lines.length < most;
  useEffect(() => {
    if (more && !isFetching && !error) void fetchNextPage();
  }, [more, isFetching, error, fetchNextPage]);
  return {
    lines,
    done: data !== undefined && !more,
    problem: error?.message ?? '',
    next: useCallback((from: number, back: boolean) => beside(lines, from, back), [lines]),
  };
}
