import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Checkbox from '@mui/material/Checkbox';
import FormControlLabel from '@mui/material/FormControlLabel';
import TextField from '@mui/material/TextField';
import Typography from '@mui/material/Typography';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { useNavigate, useParams, useSearchParams } from 'react-router';
import { api, done, take, type Webhook } from '../api/client';
import { useKeys } from '../keys';
import { useNewest } from '../paged';
import { FormDialog } from '../parts/FormDialog';
import { List } from '../parts/List';
import { stateColour } from '../parts/StateMark';
import { ago, count } from '../text';
import { mono } from '../theme';
import { Scrolled } from '../parts/Scrolled';

type Kind = NonNullable<Webhook['kinds']>[number];

const kinds: Record<string, string> = {
  'pipeline.broke': 'a pipeline broke',
  'pipeline.recovered': 'it passes again',
  'release.made': 'a release was made',
  'change.found': 'it was found which change broke a job',
  'expiry.near': 'a certificate, profile or secret expires',
  'budget.warned': 'much of a budget is used',
  'budget.spent': 'a budget is used up',
  'run.ended': 'each run, however it ended',
};

function SetDialog({ project, tell, close }: { project: string; tell: (secret: string) => void; close: () => void }) {
  const [name, setName] = useState('');
  const [url, setURL] = useState('');
  const [of, setOf] = useState(Object.keys(kinds).filter((k) => k !== 'run.ended'));
  return (
    <FormDialog
      title="Tell a program"
      act="Set"
      changes="webhooks"
      close={close}
      run={async () => {
        const w = take(
          await api.PUT('/api/v1/projects/{project}/webhooks/{name}', {
            params: { path: { project, name } },
            body: { url, kinds: of as Kind[] },
          }),
        );
        tell(w.secret ?? '');
      }}
    >
      <TextField label="Name" required autoFocus value={name} onChange={(e) => setName(e.target.value.trim())} />
      <TextField label="Address" required value={url} onChange={(e) => setURL(e.target.value.trim())} />
      <Box role="group" aria-label="Told of">
        {Object.entries(kinds).map(([k, means]) => (
          <FormControlLabel
            key={k}
            sx={{ display: 'flex' }}
            control={
              <Checkbox
                size="small"
                checked={of.includes(k)}
                onChange={(e) => setOf(e.target.checked ? [...of, k] : of.filter((o) => o !== k))}
              />
            }
            label={means}
          />
        ))}
      </Box>
    </FormDialog>
  );
}

function Messages({ project, name }: { project: string; name: string }) {
  const queries = useQueryClient();
  const list = useNewest(
    ['messages', project, name],
    3_000,
    async (before) =>
      take(
        await api.GET('/api/v1/projects/{project}/webhooks/{name}/messages', {
          params: { path: { project, name }, query: before },
        }),
      ),
    (page) => page.messages,
  );
  const again = useMutation({
    mutationFn: async (id: number) =>
      done(
        await api.POST('/api/v1/projects/{project}/webhooks/{name}/messages/{id}/again', {
          params: { path: { project, name, id } },
        }),
      ),
    onSuccess: () => queries.invalidateQueries({ queryKey: ['messages'] }),
  });
  const looks = { queued: 'queued', sent: 'passed', refused: 'failed' } as const;
  return (
    <Scrolled below>
      <Typography variant="h2" sx={{ p: 1.5, pb: 0 }}>
        Sent to {name}
      </Typography>
      {list.ready && list.list.length === 0 && <Box sx={{ p: 1.5 }}>Nothing yet.</Box>}
      {list.list.length > 0 && (
        <List
          label={`Sent to ${name}`}
          heads={['What', 'State', 'Tries', 'Answer', 'When', '']}
          rows={list.list.map((m) => ({
            key: String(m.id),
            cells: [
              m.kind,
              <Box key="s" component="span" sx={{ color: stateColour(looks[m.state]), fontWeight: 600 }}>
                {m.state}
              </Box>,
              m.tries,
              <Box key="a" sx={{ fontFamily: mono, fontSize: 12, overflowWrap: 'anywhere' }}>
                {m.status ? `${m.status} ` : ''}
                {m.answer}
              </Box>,
              ago(m.queued),
              <Button key="b" size="small" disabled={m.state === 'queued'} onClick={() => again.mutate(m.id)}>
                Send again
              </Button>,
            ],
          }))}
        />
      )}
    </Scrolled>
  );
}

/** Where a project's badge and feed are; asked for, since whoever has the address may read them. */
function FeedOf({ project }: { project: string }) {
  const feed = useMutation({
    mutationFn: async () =>
      take(await api.POST('/api/v1/projects/{project}/feed', { params: { path: { project } }, body: { anew: false } })),
  });
  if (!feed.data)
    return (
      <Button variant="outlined" onClick={() => feed.mutate()}>
        Badge and feed …
      </Button>
    );
  return (
    <Alert severity="info" variant="outlined" sx={{ width: '100%' }}>
      Whoever has these addresses may read them:
      <Box sx={{ fontFamily: mono, fontSize: 12, overflowWrap: 'anywhere' }}>{feed.data.badge}</Box>
      <Box sx={{ fontFamily: mono, fontSize: 12, overflowWrap: 'anywhere' }}>{feed.data.atom}</Box>
    </Alert>
  );
}

/** Which programs are told of what happens in a project, and what they answered. */
export default function Webhooks() {
  const { project = '' } = useParams();
  const go = useNavigate();
  const queries = useQueryClient();
  const [search, setSearch] = useSearchParams();
  const [setting, setSetting] = useState(false);
  const [secret, setSecret] = useState('');
  useKeys({ u: () => void go(`/${encodeURIComponent(project)}`) });
  const list = useQuery({
    queryKey: ['webhooks', project],
    refetchInterval: 10_000,
    queryFn: async () => take(await api.GET('/api/v1/projects/{project}/webhooks', { params: { path: { project } } })),
  });
  const act = useMutation({
    mutationFn: async (of: { name: string; what: 'try' | 'drop' }) => {
      const at = { params: { path: { project, name: of.name } } };
      if (of.what === 'try') return done(await api.POST('/api/v1/projects/{project}/webhooks/{name}/try', at));
      return done(await api.DELETE('/api/v1/projects/{project}/webhooks/{name}', at));
    },
    onSuccess: (_, of) => {
      void queries.invalidateQueries({ queryKey: ['webhooks'] });
      if (of.what === 'try') setSearch({ of: of.name }, { replace: true });
    },
  });
  const chosen = search.get('of');
  return (
    <Box sx={{ p: 2, maxWidth: 1280, mx: 'auto' }}>
      <Box sx={{ display: 'flex', alignItems: 'center', gap: 1.5, mb: 1.5, flexWrap: 'wrap' }}>
        <Typography variant="h1" sx={{ flexGrow: 1 }}>
          Webhooks
        </Typography>
        <FeedOf project={project} />
        <Button variant="contained" onClick={() => setSetting(true)}>
          Tell a program …
        </Button>
      </Box>
      {(list.error ?? act.error) && (
        <Alert severity="error" variant="outlined">
          {(list.error ?? act.error)?.message}
        </Alert>
      )}
      {secret && (
        <Alert severity="success" variant="outlined" onClose={() => setSecret('')} sx={{ mb: 1.5 }}>
          Its messages are signed with <b style={{ fontFamily: mono }}>{secret}</b>. This is shown once.
        </Alert>
      )}
      {list.data?.length === 0 && (
        <Alert severity="info" variant="outlined">
          No program is told of anything.
        </Alert>
      )}
      {list.data && list.data.length > 0 && (
        <Scrolled>
          <List
            label="Webhooks"
            heads={['Name', 'Address', 'Told of', 'Set', '']}
            rows={list.data.map((w) => ({
              key: w.name,
              cells: [
                <b key="n">{w.name}</b>,
                <Box key="u" sx={{ fontFamily: mono, fontSize: 12, overflowWrap: 'anywhere' }}>
                  {w.url}
                  {w.paused && <Box sx={{ color: stateColour('failed') }}>paused: {w.paused}</Box>}
                </Box>,
                <span key="k" title={w.kinds.join(', ')}>
                  {count(w.kinds.length, 'kind')} of news
                </span>,
                `${ago(w.set)} by ${w.by}`,
                <Box key="a" sx={{ whiteSpace: 'nowrap' }}>
                  <Button size="small" onClick={() => act.mutate({ name: w.name, what: 'try' })}>
                    Try it
                  </Button>
                  <Button
                    size="small"
                    aria-pressed={chosen === w.name}
                    onClick={() => setSearch(chosen === w.name ? {} : { of: w.name }, { replace: true })}
                  >
                    Messages
                  </Button>
                  <Button size="small" color="error" onClick={() => act.mutate({ name: w.name, what: 'drop' })}>
                    Drop
                  </Button>
                </Box>,
              ],
            }))}
          />
        </Scrolled>
      )}
      {chosen && <Messages project={project} name={chosen} />}
      {setting && <SetDialog project={project} tell={setSecret} close={() => setSetting(false)} />}
    </Box>
  );
}
