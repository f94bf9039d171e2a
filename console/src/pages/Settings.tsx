import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Checkbox from '@mui/material/Checkbox';
import FormControlLabel from '@mui/material/FormControlLabel';
import Paper from '@mui/material/Paper';
import TextField from '@mui/material/TextField';
import Typography from '@mui/material/Typography';
import { useQuery } from '@tanstack/react-query';
import { useState, type ReactNode } from 'react';
import { Link, useNavigate, useParams } from 'react-router';
import { api, done, take, type Project } from '../api/client';
import { useKeys } from '../keys';
import { useMe } from '../me';
import { FormDialog } from '../parts/FormDialog';
import { mono } from '../theme';

const key = 'settings';
const path = (project: string) => ({ params: { path: { project } } });

/** Something that is set: what it is, how it is, and the way to change it. */
function Setting({
  name,
  is,
  change,
  act = 'Change',
}: {
  name: string;
  is: ReactNode;
  change?: () => void;
  act?: string;
}) {
  return (
    <Box
      sx={{
        display: 'grid',
        gridTemplateColumns: { xs: '1fr auto', sm: '220px 1fr auto' },
        gap: 1,
        alignItems: 'baseline',
        py: 0.75,
        borderBottom: 1,
        borderColor: 'divider',
        '&:last-of-type': { borderBottom: 0 },
      }}
    >
      <Box component="dt" sx={{ fontWeight: 600 }}>
        {name}
      </Box>
      <Box component="dd" sx={{ m: 0, gridRow: { xs: 2, sm: 'auto' }, overflowWrap: 'anywhere' }}>
        {is}
      </Box>
      {change && (
        <Box component="dd" sx={{ m: 0 }}>
          <Button size="small" aria-label={`${act}: ${name}`} onClick={change}>
            {act}
          </Button>
        </Box>
      )}
    </Box>
  );
}

interface Dialog {
  of: Project;
  close: () => void;
}

function AtOnce({ of, close }: Dialog) {
  const [n, setN] = useState(String(of.at_once ?? 0));
  return (
    <FormDialog
      title="Jobs at work at once"
      act="Set"
      close={close}
      changes={key}
      run={async () =>
        take(await api.PUT('/api/v1/projects/{project}/limit', { ...path(of.name), body: { at_once: Number(n) } }))
      }
    >
      <TextField
        size="small"
        autoFocus
        required
        label="At most so many"
        value={n}
        onChange={(e) => setN(e.target.value)}
        helperText="0: any number"
        slotProps={{ htmlInput: { inputMode: 'numeric', pattern: '[0-9]{1,4}' } }}
      />
    </FormDialog>
  );
}

function Hold({ of, close }: Dialog) {
  const [reason, setReason] = useState('');
  return (
    <FormDialog
      title={of.held ? 'Let its jobs go again' : 'Hold its jobs'}
      act={of.held ? 'Resume' : 'Hold'}
      close={close}
      changes={key}
      run={async () => take(await api.PUT('/api/v1/projects/{project}/hold', { ...path(of.name), body: { reason } }))}
    >
      {of.held ? (
        <Box>
          Held by {of.held_by}: {of.held}
        </Box>
      ) : (
        <TextField
          size="small"
          autoFocus
          required
          label="Why"
          value={reason}
          onChange={(e) => setReason(e.target.value)}
          helperText="No job is handed out until they are let go; those at work end as they would."
        />
      )}
    </FormDialog>
  );
}

const fields = [
  ['name', 'Name', 'Piston, where it is empty'],
  ['email', 'Mail address', ''],
  ['push_to', 'Pushes to', 'An address by ssh on the same host; empty: where it is read from'],
  ['push_host', 'Key of that host', 'As ssh-keyscan prints it: HOST TYPE KEY'],
] as const;

function Lands({ of, close }: Dialog) {
  const [bot, setBot] = useState<Project['bot']>(of.bot);
  return (
    <FormDialog
      title="Who commits what runs land"
      act="Set"
      close={close}
      changes={key}
      run={async () => take(await api.PUT('/api/v1/projects/{project}/bot', { ...path(of.name), body: bot }))}
    >
      {fields.map(([field, label, help]) => (
        <TextField
          key={field}
          size="small"
          label={label}
          value={bot[field] ?? ''}
          onChange={(e) => setBot({ ...bot, [field]: e.target.value })}
          helperText={help}
        />
      ))}
    </FormDialog>
  );
}

function Lends({ of, to, close }: Dialog & { to: string[] }) {
  const [text, setText] = useState(to.join(' '));
  return (
    <FormDialog
      title="Who may read its source"
      act="Set"
      close={close}
      changes={key}
      run={async () =>
        take(
          await api.PUT('/api/v1/projects/{project}/lendings', {
            ...path(of.name),
            body: { to: text.split(/[\s,]+/).filter(Boolean) },
          }),
        )
      }
    >
      <TextField
        size="small"
        autoFocus
        label="Projects"
        value={text}
        onChange={(e) => setText(e.target.value)}
        helperText="Their jobs may have it as a submodule. Names, parted by spaces."
      />
    </FormDialog>
  );
}

function Network({ of, close }: Dialog) {
  const [host, setHost] = useState(of.host_network ?? false);
  return (
    <FormDialog
      title="The machines' own network"
      act="Set"
      close={close}
      changes={key}
      run={async () => take(await api.PUT('/api/v1/projects/{project}/network', { ...path(of.name), body: { host } }))}
    >
      <FormControlLabel
        control={<Checkbox checked={host} onChange={(e) => setHost(e.target.checked)} />}
        label="Steps that ask for it are given it, where the runner allows that"
      />
      <Box>Such a step reaches whatever the machine does, what is inside too.</Box>
    </FormDialog>
  );
}

function Remove({ of, close }: Dialog) {
  const [name, setName] = useState('');
  const go = useNavigate();
  return (
    <FormDialog
      title={`Remove ${of.name} from the service`}
      act="Remove"
      danger
      close={close}
      changes="projects"
      run={async () => {
        if (name !== of.name) throw new Error('That is not its name. Nothing is removed.');
        done(await api.DELETE('/api/v1/projects/{project}', path(of.name)));
        void go('/');
      }}
    >
      <Box>
        Its runs, logs, artifacts, packages, caches, secrets and signing keys go with it, for ever. The repository stays
        as it is.
      </Box>
      <TextField
        size="small"
        autoFocus
        required
        label="Its name, to be sure"
        value={name}
        onChange={(e) => setName(e.target.value)}
      />
    </FormDialog>
  );
}

const dialogs = { AtOnce, Hold, Lands, Network, Remove } as const;
type What = keyof typeof dialogs | 'Lends';

/** What is set for a project, and where it is changed. */
export default function Settings() {
  const { project = '' } = useParams();
  const me = useMe();
  const go = useNavigate();
  const [doing, setDoing] = useState<What>();
  useKeys({ u: () => void go(`/${encodeURIComponent(project)}`) });
  const keeps = me.may('keeper', project);
  const about = useQuery({
    queryKey: [key, project],
    queryFn: async () => take(await api.GET('/api/v1/projects/{project}', path(project))),
  });
  const lent = useQuery({
    queryKey: [key, project, 'lent'],
    enabled: keeps,
    queryFn: async () => take(await api.GET('/api/v1/projects/{project}/lendings', path(project))),
  });
  const p = about.data;
  const may = (what: What, allowed: boolean) => (allowed ? () => setDoing(what) : undefined);
  const to = lent.data?.to ?? [];
  const bot = p?.bot;
  const Doing = doing && doing !== 'Lends' ? dialogs[doing] : undefined;
  const close = () => setDoing(undefined);
  const room = (name: string, word: string) => (
    <Box component={Link} to={`/${encodeURIComponent(project)}/${name}`} sx={{ color: 'primary.main' }}>
      {word}
    </Box>
  );
  return (
    <Box sx={{ p: 2, maxWidth: 1000, mx: 'auto' }}>
      <Typography variant="h1" sx={{ mb: 1.5 }}>
        Settings of {project}
      </Typography>
      {about.error && (
        <Alert severity="error" variant="outlined">
          {about.error.message}
        </Alert>
      )}
      {p && (
        <Paper component="dl" sx={{ px: 1.5, py: 0.5, m: 0 }}>
          <Setting
            name="Repository"
            is={
              <Box component="span" sx={{ fontFamily: mono, fontSize: 12 }}>
                {p.remote}
              </Box>
            }
          />
          <Setting
            name="Its jobs"
            is={p.held ? `held by ${p.held_by}: ${p.held}` : 'are handed out'}
            change={may('Hold', keeps)}
          />
          <Setting
            name="Jobs at work at once"
            is={p.at_once ? `at most ${p.at_once}` : 'any number'}
            change={may('AtOnce', keeps)}
          />
          <Setting
            name="What runs land"
            is={
              `is committed by ${bot?.name || 'Piston'}${bot?.email ? ` <${bot.email}>` : ''}` +
              (bot?.push_to ? ` and pushed to ${bot.push_to}` : '')
            }
            change={may('Lands', keeps)}
          />
          {keeps && (
            <Setting
              name="Its source"
              is={to.length > 0 ? `may be read by the jobs of ${to.join(', ')}` : 'is read by its own jobs only'}
              change={lent.data && may('Lends', true)}
            />
          )}
          <Setting
            name="The machines' own network"
            is={p.host_network ? 'is given to steps that ask for it' : 'is given to no step'}
            change={may('Network', me.administrator)}
          />
          <Setting
            name="Elsewhere"
            is={
              <>
                {room('secrets', 'secrets')}, {room('identities', 'signing keys')},{' '}
                {room('kept', 'what is kept how long')}
                {keeps && (
                  <>
                    , {room('webhooks', 'who is told of what')}, {room('usage', 'its budget')}
                  </>
                )}
              </>
            }
          />
          {me.administrator && (
            <Setting
              name="The project"
              is="with all that the service has of it"
              act="Remove"
              change={may('Remove', true)}
            />
          )}
        </Paper>
      )}
      {p && Doing && <Doing of={p} close={close} />}
      {p && doing === 'Lends' && <Lends of={p} to={to} close={close} />}
    </Box>
  );
}
