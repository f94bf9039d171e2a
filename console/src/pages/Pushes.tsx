import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { Link, useNavigate, useParams, useSearchParams } from 'react-router';
import { api, done, take, type Push } from '../api/client';
import { useKeys } from '../keys';
import { useMe } from '../me';
import { useNewest } from '../paged';
import { Choice } from '../parts/Choice';
import { ListPage } from '../parts/ListPage';
import { mono } from '../theme';
import { ago } from '../text';

const pageSize = 50;
const states = ['waiting', 'planned', 'set-aside'] as const;

/** What an event is about: its refs and their commits, or what it says of itself; and when it came. */
function Of({ push }: { push: Push }) {
  return (
    <>
      {push.about && <Box>{push.about}</Box>}
      {!push.about &&
        push.refs.map((r) => (
          <Box key={r.ref} sx={{ overflowWrap: 'anywhere' }}>
            {r.ref.replace(/^refs\/(heads\/|tags\/)?/, '')}{' '}
            <Box component="span" sx={{ fontFamily: mono, fontSize: 12, color: 'text.secondary' }}>
              {/^0+$/.test(r.commit) ? 'removed' : r.commit.slice(0, 9)}
            </Box>
          </Box>
        ))}
      <Box sx={{ fontSize: 12, color: 'text.secondary' }}>
        {push.kind}, <time dateTime={push.received}>{ago(push.received)}</time>
      </Box>
    </>
  );
}

/** What came of an event: its runs, or why there are none. */
function CameOf({ push, project }: { push: Push; project: string }) {
  if (push.state === 'planned' && push.runs.length === 0) {
    return (
      <Box component="span" sx={{ color: 'text.secondary' }}>
        no pipeline starts on it
      </Box>
    );
  }
  return (
    <>
      {push.state !== 'planned' && (
        <Box sx={{ overflowWrap: 'anywhere' }}>
          <Box component="b" sx={{ color: push.state === 'set-aside' ? 'error.main' : 'inherit' }}>
            {push.state}
          </Box>
          {': '}
          {push.note || 'is about to be planned'}
        </Box>
      )}
      {push.runs.map((r) => (
        <Box key={r.number}>
          <Box component={Link} to={`/${encodeURIComponent(project)}/${r.number}`} sx={{ color: 'primary.main' }}>
            {r.pipeline} run {r.number}
          </Box>{' '}
          {r.state}
        </Box>
      ))}
    </>
  );
}

/** What may start runs, newest first, and what came of each; what was set aside can be tried again. */
export default function Pushes() {
  const { project = '' } = useParams();
  const go = useNavigate();
  const queries = useQueryClient();
  const { may } = useMe();
  const [search] = useSearchParams();
  useKeys({ u: () => void go(`/${encodeURIComponent(project)}`) });
  const state = states.find((s) => s === search.get('state'));
  const list = useNewest(
    ['pushes', project, state],
    5_000,
    async (before) => {
      const query = { limit: pageSize, ...(state && { state }), ...before };
      return take(await api.GET('/api/v1/projects/{project}/pushes', { params: { path: { project }, query } }));
    },
    (page) => page.pushes,
  );
  const retry = useMutation({
    mutationFn: async (id: number) =>
      done(await api.POST('/api/v1/projects/{project}/pushes/{id}/retry', { params: { path: { project, id } } })),
    onSettled: () => queries.invalidateQueries({ queryKey: ['pushes', project] }),
  });
  return (
    <ListPage
      title="Pushes, and what came of them"
      label="Pushes"
      narrow={
        <Choice label="State" name="state" options={{ '': 'any', ...Object.fromEntries(states.map((s) => [s, s])) }} />
      }
      of={list}
      error={retry.error}
      none="Nothing of that kind."
      heads={['Of', 'What came of it', '']}
      row={(p) => ({
        key: String(p.id),
        cells: [
          <Of key="o" push={p} />,
          <CameOf key="c" push={p} project={project} />,
          p.state === 'set-aside' && may('keeper', project) ? (
            <Button key="r" size="small" disabled={retry.isPending} onClick={() => retry.mutate(p.id)}>
              Try again
            </Button>
          ) : null,
        ],
      })}
    />
  );
}
