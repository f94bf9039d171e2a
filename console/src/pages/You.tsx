import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Checkbox from '@mui/material/Checkbox';
import FormControlLabel from '@mui/material/FormControlLabel';
import MenuItem from '@mui/material/MenuItem';
import TextField from '@mui/material/TextField';
import Typography from '@mui/material/Typography';
import { useState } from 'react';
import { useNavigate } from 'react-router';
import { api, done, take, type Token } from '../api/client';
import { expiry } from '../expiry';
import { useKeys } from '../keys';
import { useMe } from '../me';
import { Contains, More, usePaged } from '../paged';
import { FormDialog } from '../parts/FormDialog';
import { List } from '../parts/List';
import { mono } from '../theme';
import { ago } from '../text';
import { Wishes } from '../parts/Wishes';
import { Scrolled } from '../parts/Scrolled';

type Bound = 'reader' | 'builder' | 'keeper' | 'administrator';

function AddToken({ close, made }: { close: () => void; made: (t: { name: string; secret: string }) => void }) {
  const { administrator } = useMe();
  const [name, setName] = useState('');
  const [runner, setRunner] = useState(false);
  const [role, setRole] = useState('');
  const [project, setProject] = useState('');
  const [days, setDays] = useState('365');
  return (
    <FormDialog
      title="Make a token"
      act="Make"
      close={close}
      changes="tokens"
      run={async () =>
        made(
          take(
            await api.POST('/api/v1/tokens', {
              body: {
                name,
                kind: runner ? 'runner' : 'person',
                days: Number(days),
                ...(project && { project }),
                ...(!runner && role && { role: role as Bound }),
              },
            }),
          ),
        )
      }
    >
      <TextField
        size="small"
        required
        autoFocus
        label="What it is for"
        value={name}
        onChange={(e) => setName(e.target.value)}
      />
      {administrator && (
        <FormControlLabel
          control={<Checkbox checked={runner} onChange={(e) => setRunner(e.target.checked)} />}
          label="For a runner: it only claims jobs and reports them"
        />
      )}
      {!runner && (
        <TextField
          select
          size="small"
          label="The most it may do"
          value={role}
          onChange={(e) => setRole(e.target.value)}
          slotProps={{ select: { displayEmpty: true }, inputLabel: { shrink: true } }}
        >
          <MenuItem value="">whatever you may</MenuItem>
          {(['reader', 'builder', 'keeper', 'administrator'] as const).map((r) => (
            <MenuItem key={r} value={r}>
              {r}
            </MenuItem>
          ))}
        </TextField>
      )}
      <TextField
        size="small"
        label="In the project"
        value={project}
        onChange={(e) => setProject(e.target.value)}
        helperText="Empty: in every project"
      />
      <TextField
        size="small"
        required
        label="Good for how many days"
        value={days}
        onChange={(e) => setDays(e.target.value)}
        helperText="0: for ever"
        slotProps={{ htmlInput: { inputMode: 'numeric', pattern: '[0-9]{1,4}' } }}
      />
    </FormDialog>
  );
}

function ChangePassword({ close }: { close: () => void }) {
  const [old, setOld] = useState('');
  const [next, setNext] = useState('');
  const [again, setAgain] = useState('');
  const differs = again !== '' && again !== next;
  return (
    <FormDialog
      title="Change your password"
      act="Change"
      close={close}
      changes="who"
      run={async () => {
        if (again !== next) throw new Error('The new passwords differ. Nothing is changed.');
        done(await api.PUT('/api/v1/session/password', { body: { old, new: next } }));
      }}
    >
      <TextField
        size="small"
        required
        autoFocus
        type="password"
        label="Old password"
        autoComplete="current-password"
        value={old}
        onChange={(e) => setOld(e.target.value)}
      />
      <TextField
        size="small"
        required
        type="password"
        label="New password"
        autoComplete="new-password"
        value={next}
        onChange={(e) => setNext(e.target.value)}
        helperText="12 characters at least"
        slotProps={{ htmlInput: { minLength: 12 } }}
      />
      <TextField
        size="small"
        required
        type="password"
        label="New password again"
        autoComplete="new-password"
        value={again}
        onChange={(e) => setAgain(e.target.value)}
        error={differs}
        helperText={differs ? 'It differs' : ' '}
      />
      <Box>Your sessions end, and you sign in anew. Tokens stay good: revoke those you do not know.</Box>
    </FormDialog>
  );
}

function Mail({ close }: { close: () => void }) {
  const [mail, setMail] = useState(useMe().mail ?? '');
  return (
    <FormDialog
      title="Where you get mail"
      act="Save"
      close={close}
      changes="who"
      run={async () => done(await api.PUT('/api/v1/session/mail', { body: { mail } }))}
    >
      <TextField
        size="small"
        type="email"
        autoFocus
        label="Address"
        value={mail}
        onChange={(e) => setMail(e.target.value.trim())}
        helperText="Empty: nowhere"
      />
      <Box>You are told where a run waits for an answer that you may give.</Box>
    </FormDialog>
  );
}

/** Who one is here: one's roles, password and tokens; for an administrator everybody's tokens. */
export default function You() {
  const go = useNavigate();
  const me = useMe();
  useKeys({ u: () => void go('/') });
  const [doing, setDoing] = useState<'token' | 'password' | 'mail' | Token | null>(null);
  const [made, setMade] = useState<{ name: string; secret: string } | null>(null);
  const tokens = usePaged<Token, number>(
    ['tokens'],
    async (query) => take(await api.GET('/api/v1/tokens', { params: { query } })),
    (t) => t.id,
    0,
  );
  const { list, contains } = tokens;
  const close = () => setDoing(null);
  const roles = Object.entries(me.roles)
    .map(([project, role]) => `${role} of ${project === '*' ? 'every project' : project}`)
    .sort();
  return (
    <Box sx={{ p: 2, maxWidth: 1280, mx: 'auto' }}>
      <Box sx={{ display: 'flex', alignItems: 'center', gap: 1.5, mb: 2.5 }}>
        <Typography variant="h1">{me.name}</Typography>
        <Box sx={{ flexGrow: 1, color: 'text.secondary' }}>
          {me.administrator
            ? 'administrator: may do everything, everywhere'
            : roles.join(', ') || 'no role yet: an administrator gives you one'}
        </Box>
        <Button variant="outlined" onClick={() => setDoing('mail')}>
          {me.mail ? `Mail to ${me.mail} …` : 'Get mail …'}
        </Button>
        <Button variant="outlined" onClick={() => setDoing('password')}>
          Change password …
        </Button>
      </Box>
      {made && (
        <Alert severity="success" variant="outlined" sx={{ mb: 2 }} onClose={() => setMade(null)}>
          The token {made.name} is{' '}
          <Box component="b" sx={{ fontFamily: mono, overflowWrap: 'anywhere' }}>
            {made.secret}
          </Box>
          . It is not shown again.
        </Alert>
      )}
      <Wishes />
      <Box component="section">
        <Box sx={{ display: 'flex', alignItems: 'center', gap: 1.5, mb: 1 }}>
          <Typography variant="h2" sx={{ flexGrow: 1 }}>
            {me.administrator ? 'Tokens of everybody' : 'Your tokens'}
          </Typography>
          {(list.length > 8 || contains !== '') && (
            <Contains of={tokens} label={me.administrator ? 'Name or person contains' : 'Name contains'} />
          )}
          <Button variant="outlined" onClick={() => setDoing('token')}>
            Make a token …
          </Button>
        </Box>
        {tokens.error && (
          <Alert severity="error" variant="outlined">
            {tokens.error.message}
          </Alert>
        )}
        {tokens.ready && list.length === 0 && (
          <Alert severity="info" variant="outlined">
            {contains
              ? 'No token of that name.'
              : 'No tokens yet. One lets a program, or a runner, in without a password.'}
          </Alert>
        )}
        {list.length > 0 && (
          <Scrolled>
            <List
              label="Tokens"
              heads={['Token', 'Of', 'At most', 'Made', 'Used', 'Expires', '']}
              rows={list.map((t) => ({
                key: String(t.id),
                cells: [
                  <b key="n">{t.name}</b>,
                  t.kind === 'runner' ? 'a runner' : t.person,
                  [t.role ?? '', t.project && `in ${t.project}`].filter(Boolean).join(' '),
                  ago(t.created),
                  t.last_used ? ago(t.last_used) : 'never',
                  <Box
                    key="e"
                    component="span"
                    sx={{ color: expiry(t.expires).over ? 'error.main' : 'inherit', whiteSpace: 'nowrap' }}
                  >
                    {expiry(t.expires).soon && '⚠ '}
                    {expiry(t.expires).text}
                  </Box>,
                  <Box key="a" sx={{ textAlign: 'right' }}>
                    <Button size="small" color="error" onClick={() => setDoing(t)}>
                      Revoke
                    </Button>
                  </Box>,
                ],
              }))}
            />
          </Scrolled>
        )}
        <More of={tokens} />
      </Box>
      {doing === 'token' && <AddToken close={close} made={setMade} />}
      {doing === 'mail' && <Mail close={close} />}
      {doing === 'password' && <ChangePassword close={close} />}
      {doing !== null && typeof doing === 'object' && (
        <FormDialog
          title={`Revoke the token ${doing.name}?`}
          act="Revoke"
          danger
          close={close}
          changes="tokens"
          run={async () => done(await api.DELETE('/api/v1/tokens/{id}', { params: { path: { id: doing.id } } }))}
        >
          Whatever uses it is refused from now on.
        </FormDialog>
      )}
    </Box>
  );
}
