import Button from '@mui/material/Button';
import TextField from '@mui/material/TextField';
import { keepPreviousData, useInfiniteQuery } from '@tanstack/react-query';
import { useState } from 'react';

interface Page<K> {
  after: K;
  contains: string;
  limit: number;
}

/** What is shown of a list of which the service gives pages. */
export interface Paged<T> {
  list: T[];
  ready: boolean;
  error: Error | null;
  contains: string;
  setContains: (text: string) => void;
  more?: (() => void) | undefined;
}

/**
 * A list in the order of a key, so far as it was asked for. The service does the filtering: it knows the pages that
 * are not here yet.
 */
export function usePaged<T, K extends string | number>(
  query: string[],
  fetch: (page: Page<K>) => Promise<T[]>,
  key: (item: T) => K,
  first: K,
  limit = 100,
): Paged<T> {
  const [contains, setContains] = useState('');
  const pages = useInfiniteQuery({
    queryKey: [...query, contains],
    initialPageParam: first,
    placeholderData: keepPreviousData,
    queryFn: ({ pageParam }) => fetch({ after: pageParam as K, contains, limit }),
    getNextPageParam: (page) => nextAfter(page, key, limit),
  });
  return {
    list: pages.data?.pages.flat() ?? [],
    ready: pages.data !== undefined,
    error: pages.error,
    contains,
    setContains,
    more: pages.hasNextPage ? () => void pages.fetchNextPage() : undefined,
  };
}

/** A list whose newest come first, so far as it was asked for. */
export interface Newest<T> {
  list: T[];
  ready: boolean;
  /** When it was read. */
  at: number;
  error: Error | null;
  more?: (() => void) | undefined;
}

/** A list that is read again every so often; each page says from where the next one goes. */
function useFollowed<P extends { next?: number | undefined }, T>(
  query: (string | undefined)[],
  every: number,
  fetch: (from: number) => Promise<P>,
  items: (page: P) => T[],
): Newest<T> & { first: P | undefined } {
  const pages = useInfiniteQuery({
    queryKey: query,
    initialPageParam: 0,
    placeholderData: keepPreviousData,
    refetchInterval: every,
    queryFn: ({ pageParam }) => fetch(pageParam),
    getNextPageParam: (page) => page.next,
  });
  return {
    list: pages.data?.pages.flatMap(items) ?? [],
    ready: pages.data !== undefined,
    at: pages.dataUpdatedAt,
    error: pages.error,
    more: pages.hasNextPage ? () => void pages.fetchNextPage() : undefined,
    first: pages.data?.pages[0],
  };
}

/** A list by ids, the newest first: a page goes to before an id. */
export const useNewest = <P extends { next?: number | undefined }, T>(
  query: (string | undefined)[],
  every: number,
  fetch: (before: { before?: number }) => Promise<P>,
  items: (page: P) => T[],
): Newest<T> => useFollowed(query, every, (from) => fetch(from ? { before: from } : {}), items);

/** A list in an order of its own: a page leaves out so many. */
export const useSkipped = useFollowed;

/** A list by name. */
export const useNamed = <T,>(
  query: string[],
  fetch: (page: Page<string>) => Promise<T[]>,
  name: (item: T) => string,
  limit?: number,
) => usePaged(query, fetch, name, '', limit);

/** The key after which the next page begins; undefined when a page was not full, so that there is none. */
export function nextAfter<T, K>(page: T[], key: (item: T) => K, limit: number): K | undefined {
  const last = page[limit - 1];
  return last === undefined ? undefined : key(last);
}

export function Contains({
  of,
  label = 'Name contains',
}: {
  of: Pick<Paged<unknown>, 'contains' | 'setContains'>;
  label?: string;
}) {
  return <TextField size="small" label={label} value={of.contains} onChange={(e) => of.setContains(e.target.value)} />;
}

export function More({ of }: { of: Pick<Paged<unknown>, 'more'> }) {
  return of.more ? (
    <Button sx={{ mt: 1 }} onClick={of.more}>
      More
    </Button>
  ) : null;
}
