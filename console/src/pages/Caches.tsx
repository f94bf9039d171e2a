import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Typography from '@mui/material/Typography';
import { keepPreviousData, useInfiniteQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link, useNavigate, useParams, useSearchParams } from 'react-router';
import { api, done, take, type CacheRecord, type SavedCache, type SavedCaches } from '../api/client';
import { useKeys } from '../keys';
import { useMe } from '../me';
import { FormDialog } from '../parts/FormDialog';
import { List } from '../parts/List';
import { ago, count, size, span } from '../text';
import { Scrolled } from '../parts/Scrolled';

/** Who restores a copy, when not everybody. */
function whose(c: SavedCache): string {
  if (c.outside) return 'only by that proposal';
  if (c.apart) return 'with its protected secrets';
  return c.gated ? 'not from outside' : '';
}

/** How often what fits was there, of all times. */
function rate(r: CacheRecord): string {
  const all = r.hits + r.nearest + r.misses;
  return all === 0 ? '' : `${Math.floor((100 * r.hits) / all)} %`;
}

const took = (ms: number | undefined) => (ms === undefined ? '–' : span(ms));

/** What all of it comes to. */
function inAll(c: SavedCaches): string {
  const saved = c.names.reduce((sum, r) => sum + r.saved_ms, 0);
  const steps = `${count(c.reused_steps, 'step')} that were reused ${span(c.reused_ms)}`;
  const copies = `${c.copies.toLocaleString('en')} saved copies of ${size(c.size)} take ${size(c.takes)}`;
  const work = `In the last 30 days caches have saved ${span(saved)} of work`;
  return `${work}, and ${steps}. ${copies}: each piece is stored once.`;
}

/** Gives up a saved copy. */
function DropCopy({ project, copy, close }: { project: string; copy: SavedCache; close: () => void }) {
  const path = { project, id: copy.id };
  return (
    <FormDialog
      danger
      title={`Give up copy ${copy.id} of ${copy.name}?`}
      act="Give it up"
      close={close}
      changes="caches"
      run={async () => done(await api.DELETE('/api/v1/projects/{project}/caches/{id}', { params: { path } }))}
    >
      <span>The next job that wants it makes it anew. Its pieces go when no other copy has them.</span>
    </FormDialog>
  );
}

/** What came of each cache: how often it was there, and what that has saved. */
function Records({ list }: { list: CacheRecord[] }) {
  return (
    <Scrolled>
      <List
        label="What came of caches"
        heads={['Pipeline', 'Job', 'Cache', 'Hits', 'Nearest', 'Misses', 'Rate', 'Job with it', 'Without', 'Saved']}
        rows={list.map((r) => ({
          key: `${r.pipeline}/${r.job}/${r.name}`,
          cells: [
            r.pipeline,
            r.job,
            r.name,
            r.hits,
            r.nearest,
            r.misses,
            rate(r),
            took(r.hit_ms),
            took(r.miss_ms),
            r.hit_ms === undefined || r.miss_ms === undefined ? '–' : span(r.saved_ms),
          ],
        }))}
      />
    </Scrolled>
  );
}

/** What is kept of a project's caches and steps, how often that was there, and what it has saved. */
export default function Caches() {
  const { project = '' } = useParams();
  const go = useNavigate();
  const { may } = useMe();
  const [search] = useSearchParams();
  const [dropping, drop] = useState<SavedCache>();
  useKeys({ u: () => void go(`/${encodeURIComponent(project)}`) });
  const name = search.get('name') ?? '';
  const pages = useInfiniteQuery({
    queryKey: ['caches', project, name],
    initialPageParam: '',
    placeholderData: keepPreviousData,
    queryFn: async ({ pageParam }) => {
      const query = { limit: 50, ...(name && { name }), ...(pageParam && { after: Number(pageParam) }) };
      return take(await api.GET('/api/v1/projects/{project}/caches', { params: { path: { project }, query } }));
    },
    getNextPageParam: (page) => page.next,
  });
  const first = pages.data?.pages[0];
  const items = pages.data?.pages.flatMap((p) => p.items) ?? [];
  const sums = first && inAll(first);
  return (
    <Box sx={{ p: 2, maxWidth: 1280, mx: 'auto' }}>
      <Typography variant="h1" sx={{ mb: 1.5 }}>
        Caches, and steps that are reused
      </Typography>
      {pages.error && (
        <Alert severity="error" variant="outlined" sx={{ mb: 1.5 }}>
          {pages.error.message}
        </Alert>
      )}
      {first && (
        <>
          <Typography sx={{ color: 'text.secondary', mb: 1.5 }}>{sums}</Typography>
          {first.names.length > 0 && <Records list={first.names} />}
          <Typography variant="h2" sx={{ mb: 1 }}>
            Saved copies
          </Typography>
        </>
      )}
      {first && items.length === 0 && (
        <Alert severity="info" variant="outlined">
          Nothing is kept. A job that passes saves the caches that it names, and steps that say what they read.
        </Alert>
      )}
      {items.length > 0 && (
        <Scrolled>
          <List
            label="Saved copies"
            heads={[
              'Copy',
              'Cache or step',
              'Job',
              'Of',
              'Run',
              'Size',
              'Files',
              'Takes',
              'Uses',
              'Last',
              'Restored',
              '',
            ]}
            rows={items.map((c) => ({
              key: String(c.id),
              cells: [
                c.id,
                c.name,
                c.job,
                c.line,
                <Box
                  key="r"
                  component={Link}
                  to={`/${encodeURIComponent(project)}/${c.run}`}
                  sx={{ color: 'primary.main' }}
                >
                  {c.run}
                </Box>,
                size(c.size),
                c.files.toLocaleString('en'),
                size(c.takes),
                c.uses,
                <time key="l" dateTime={c.last_used}>
                  {ago(c.last_used)}
                </time>,
                whose(c),
                may('builder', project) ? (
                  <Button key="d" size="small" onClick={() => drop(c)} aria-label={`Give up copy ${c.id}`}>
                    Give up
                  </Button>
                ) : null,
              ],
            }))}
          />
        </Scrolled>
      )}
      {pages.hasNextPage && (
        <Button sx={{ mt: 1 }} onClick={() => void pages.fetchNextPage()}>
          More
        </Button>
      )}
      {dropping && <DropCopy project={project} copy={dropping} close={() => drop(undefined)} />}
    </Box>
  );
}
