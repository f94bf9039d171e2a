import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Checkbox from '@mui/material/Checkbox';
import FormControlLabel from '@mui/material/FormControlLabel';
import MenuItem from '@mui/material/MenuItem';
import TextField from '@mui/material/TextField';
import Typography from '@mui/material/Typography';
import { useState, type ReactNode } from 'react';
import { useNavigate } from 'react-router';
import { api, done, take, type Grant, type Group, type Person } from '../api/client';
import { globs } from '../expiry';
import { useKeys } from '../keys';
import { Contains, More, useNamed, type Paged } from '../paged';
import { FormDialog } from '../parts/FormDialog';
import { List } from '../parts/List';
import { mono } from '../theme';
import { ago } from '../text';
import { Scrolled } from '../parts/Scrolled';

/** One of several lists of a page, with its filter and what one may do. */
function Section<T>({
  title,
  of,
  label,
  button,
  children,
}: {
  title: string;
  of: Paged<T>;
  label: string;
  button: ReactNode;
  children: ReactNode;
}) {
  return (
    <Box component="section" sx={{ mb: 3 }}>
      <Box sx={{ display: 'flex', alignItems: 'center', gap: 1.5, mb: 1 }}>
        <Typography variant="h2" sx={{ flexGrow: 1 }}>
          {title}
        </Typography>
        {(of.list.length > 8 || of.contains !== '') && <Contains of={of} label={label} />}
        {button}
      </Box>
      <Scrolled>{children}</Scrolled>
      <More of={of} />
    </Box>
  );
}

function AddPerson({ close, made }: { close: () => void; made: (p: { name: string; password: string }) => void }) {
  const [name, setName] = useState('');
  const [rules, setRules] = useState(false);
  return (
    <FormDialog
      title="Add somebody"
      act="Add"
      close={close}
      changes="people"
      run={async () => made(take(await api.POST('/api/v1/people', { body: { name, administrator: rules } })))}
    >
      <TextField
        size="small"
        required
        autoFocus
        label="Name"
        value={name}
        onChange={(e) => setName(e.target.value)}
        helperText="Small letters, digits, . _ @ and -"
      />
      <FormControlLabel
        control={<Checkbox checked={rules} onChange={(e) => setRules(e.target.checked)} />}
        label="Administrator: may do everything"
      />
    </FormDialog>
  );
}

function SetGroup({ group, close }: { group?: Group | undefined; close: () => void }) {
  const [name, setName] = useState(group?.name ?? '');
  const [members, setMembers] = useState(group?.members.join(', ') ?? '');
  const [issuerGroup, setIssuerGroup] = useState(group?.issuer_group ?? '');
  const [rules, setRules] = useState(group?.administrators ?? false);
  return (
    <FormDialog
      title={group ? `Group ${group.name}` : 'Make a group'}
      act="Save"
      close={close}
      changes="people"
      run={async () =>
        take(
          await api.PUT('/api/v1/groups/{name}', {
            params: { path: { name } },
            body: { members: globs(members), issuer_group: issuerGroup, administrators: rules },
          }),
        )
      }
    >
      {!group && (
        <TextField
          size="small"
          required
          autoFocus
          label="Name"
          value={name}
          onChange={(e) => setName(e.target.value)}
        />
      )}
      <TextField
        size="small"
        label="Members"
        value={members}
        onChange={(e) => setMembers(e.target.value)}
        helperText="Names, with commas between"
      />
      <TextField
        size="small"
        label="Group at the issuer"
        value={issuerGroup}
        onChange={(e) => setIssuerGroup(e.target.value)}
        helperText="Whoever is in it there is a member from their next sign-in on"
      />
      <FormControlLabel
        control={<Checkbox checked={rules} onChange={(e) => setRules(e.target.checked)} />}
        label="Its members are administrators"
      />
    </FormDialog>
  );
}

function GiveRole({ people, groups, close }: { people: Person[]; groups: Group[]; close: () => void }) {
  const [kind, setKind] = useState<'person' | 'group'>('person');
  const [name, setName] = useState('');
  const [role, setRole] = useState<'reader' | 'builder' | 'keeper'>('reader');
  const [project, setProject] = useState('');
  return (
    <FormDialog
      title="Give a role"
      act="Give"
      close={close}
      changes="people"
      run={async () =>
        done(await api.PUT('/api/v1/roles', { body: { role, ...(project && { project }), [kind]: name } }))
      }
    >
      <TextField select size="small" label="To a" value={kind} onChange={(e) => setKind(e.target.value as typeof kind)}>
        <MenuItem value="person">person</MenuItem>
        <MenuItem value="group">group</MenuItem>
      </TextField>
      <TextField
        size="small"
        required
        label="Name"
        value={name}
        onChange={(e) => setName(e.target.value)}
        slotProps={{ htmlInput: { list: 'who-there-is', autoComplete: 'off' } }}
      />
      <datalist id="who-there-is">
        {(kind === 'group' ? groups : people).map((v) => (
          <option key={v.name} value={v.name} />
        ))}
      </datalist>
      <TextField
        select
        size="small"
        label="Role"
        value={role}
        onChange={(e) => setRole(e.target.value as typeof role)}
        helperText={
          {
            reader: 'Sees runs, logs and artifacts',
            builder: 'Starts and stops runs, too',
            keeper: 'Sets secrets and settings, too',
          }[role]
        }
      >
        {(['reader', 'builder', 'keeper'] as const).map((r) => (
          <MenuItem key={r} value={r}>
            {r}
          </MenuItem>
        ))}
      </TextField>
      <TextField
        size="small"
        label="In the project"
        value={project}
        onChange={(e) => setProject(e.target.value)}
        helperText="Empty: in every project"
      />
    </FormDialog>
  );
}

const whom = (g: Grant) => (g.group ? `group ${g.group}` : (g.person ?? ''));
/** By what the service orders and pages roles. */
const roleKey = (g: Grant) => `${g.project ?? '*'}/${whom(g)}`;

type Doing =
  | { what: 'person' | 'group' | 'role'; group?: Group }
  | { what: 'confirm'; title: string; text: string; run: () => Promise<unknown> }
  | null;

/** Who may sign in, their groups, and who may do what in which project. */
export default function People() {
  const go = useNavigate();
  useKeys({ u: () => void go('/') });
  const [doing, setDoing] = useState<Doing>(null);
  const [made, setMade] = useState<{ name: string; password: string } | null>(null);
  const people = useNamed(
    ['people', 'list'],
    async (query) => take(await api.GET('/api/v1/people', { params: { query } })),
    (p) => p.name,
  );
  const groups = useNamed(
    ['people', 'groups'],
    async (query) => take(await api.GET('/api/v1/groups', { params: { query } })),
    (g) => g.name,
  );
  const roles = useNamed(
    ['people', 'roles'],
    async (query) => take(await api.GET('/api/v1/roles', { params: { query } })),
    roleKey,
  );
  const close = () => setDoing(null);
  const change = (p: Person, body: { administrator?: boolean; disabled?: boolean }, title: string, text: string) =>
    setDoing({
      what: 'confirm',
      title,
      text,
      run: async () => take(await api.PUT('/api/v1/people/{name}', { params: { path: { name: p.name } }, body })),
    });
  const error = people.error ?? groups.error ?? roles.error;
  return (
    <Box sx={{ p: 2, maxWidth: 1280, mx: 'auto' }}>
      <Typography variant="h1" sx={{ mb: 1.5 }}>
        People
      </Typography>
      {error && (
        <Alert severity="error" variant="outlined">
          {error.message}
        </Alert>
      )}
      {made && (
        <Alert severity="success" variant="outlined" sx={{ mb: 2 }} onClose={() => setMade(null)}>
          {made.name} signs in with the password{' '}
          <Box component="b" sx={{ fontFamily: mono }}>
            {made.password}
          </Box>
          . It is not shown again.
        </Alert>
      )}
      <Section
        title="Who may sign in"
        of={people}
        label="Name contains"
        button={
          <Button variant="outlined" onClick={() => setDoing({ what: 'person' })}>
            Add somebody …
          </Button>
        }
      >
        <List
          label="People"
          heads={['Person', '', 'Groups', 'Signs in', 'Seen', '']}
          rows={people.list.map((p) => ({
            key: p.name,
            cells: [
              <b key="n">{p.name}</b>,
              p.disabled ? (
                <Box key="d" component="span" sx={{ color: 'error.main' }}>
                  ⊘ kept out
                </Box>
              ) : p.administrator ? (
                'administrator'
              ) : (
                ''
              ),
              p.groups.join(', '),
              p.issuer ? `at ${p.issuer}` : 'by password',
              p.seen ? ago(p.seen) : 'never',
              <Box key="a" sx={{ whiteSpace: 'nowrap', textAlign: 'right' }}>
                {!p.issuer && (
                  <Button
                    size="small"
                    onClick={() =>
                      setDoing({
                        what: 'confirm',
                        title: `New password for ${p.name}?`,
                        text: 'The old one ends, and so do their sessions.',
                        run: async () =>
                          setMade(
                            take(
                              await api.POST('/api/v1/people/{name}/password', { params: { path: { name: p.name } } }),
                            ),
                          ),
                      })
                    }
                  >
                    New password
                  </Button>
                )}
                <Button
                  size="small"
                  onClick={() =>
                    change(
                      p,
                      { administrator: !p.administrator },
                      p.administrator ? `${p.name} no longer an administrator?` : `Make ${p.name} an administrator?`,
                      p.administrator
                        ? 'Roles and groups stay as they are.'
                        : 'They may then do everything, everywhere.',
                    )
                  }
                >
                  {p.administrator ? 'Demote' : 'Promote'}
                </Button>
                <Button
                  size="small"
                  color={p.disabled ? 'primary' : 'error'}
                  onClick={() =>
                    change(
                      p,
                      { disabled: !p.disabled },
                      p.disabled ? `Let ${p.name} in again?` : `Keep ${p.name} out?`,
                      p.disabled
                        ? 'They may sign in, and their tokens are good again.'
                        : 'Sessions end at once, and their tokens do nothing.',
                    )
                  }
                >
                  {p.disabled ? 'Let in' : 'Keep out'}
                </Button>
              </Box>,
            ],
          }))}
        />
      </Section>
      <Section
        title="Groups"
        of={groups}
        label="Name contains"
        button={
          <Button variant="outlined" onClick={() => setDoing({ what: 'group' })}>
            Make a group …
          </Button>
        }
      >
        <List
          label="Groups"
          heads={['Group', '', 'At the issuer', 'Members', '']}
          rows={groups.list.map((g) => ({
            key: g.name,
            cells: [
              <b key="n">{g.name}</b>,
              g.administrators ? 'administrators' : '',
              g.issuer_group,
              g.members.join(', '),
              <Box key="a" sx={{ whiteSpace: 'nowrap', textAlign: 'right' }}>
                <Button size="small" onClick={() => setDoing({ what: 'group', group: g })}>
                  Change
                </Button>
                <Button
                  size="small"
                  color="error"
                  onClick={() =>
                    setDoing({
                      what: 'confirm',
                      title: `Remove the group ${g.name}?`,
                      text: 'The roles it was given go with it.',
                      run: async () =>
                        done(await api.DELETE('/api/v1/groups/{name}', { params: { path: { name: g.name } } })),
                    })
                  }
                >
                  Remove
                </Button>
              </Box>,
            ],
          }))}
        />
      </Section>
      <Section
        title="Roles"
        of={roles}
        label="Project or name contains"
        button={
          <Button variant="outlined" onClick={() => setDoing({ what: 'role' })}>
            Give a role …
          </Button>
        }
      >
        <List
          label="Roles"
          heads={['Project', 'Who', 'Role', '']}
          rows={roles.list.map((g) => ({
            key: roleKey(g),
            cells: [
              g.project ?? 'every project',
              <b key="w">{whom(g)}</b>,
              g.role,
              <Box key="a" sx={{ textAlign: 'right' }}>
                <Button
                  size="small"
                  color="error"
                  onClick={() =>
                    setDoing({
                      what: 'confirm',
                      title: `Take this role from ${whom(g)}?`,
                      text: `${g.role ?? ''} of ${g.project ?? 'every project'}`,
                      run: async () =>
                        done(
                          await api.POST('/api/v1/roles/take', {
                            body: {
                              ...(g.project && { project: g.project }),
                              ...(g.person && { person: g.person }),
                              ...(g.group && { group: g.group }),
                            },
                          }),
                        ),
                    })
                  }
                >
                  Take
                </Button>
              </Box>,
            ],
          }))}
        />
      </Section>
      {doing?.what === 'person' && <AddPerson close={close} made={setMade} />}
      {doing?.what === 'group' && <SetGroup group={doing.group} close={close} />}
      {doing?.what === 'role' && <GiveRole people={people.list} groups={groups.list} close={close} />}
      {doing?.what === 'confirm' && (
        <FormDialog title={doing.title} act="Do it" close={close} changes="people" run={doing.run}>
          {doing.text}
        </FormDialog>
      )}
    </Box>
  );
}
