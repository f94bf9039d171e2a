import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import TextField from '@mui/material/TextField';
import ToggleButton from '@mui/material/ToggleButton';
import ToggleButtonGroup from '@mui/material/ToggleButtonGroup';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { api, take, type Secret } from '../api/client';
import { globs } from '../expiry';
import { ago, size } from '../text';
import { FormDialog } from './FormDialog';
import { List } from './List';

/** Bytes as Base64, which is how they travel. */
async function base64(data: Blob): Promise<string> {
  const bytes = new Uint8Array(await data.arrayBuffer());
  let text = '';
  for (let i = 0; i < bytes.length; i += 0x8000) text += String.fromCharCode(...bytes.subarray(i, i + 0x8000));
  return btoa(text);
}

interface Said {
  note: string;
  expires: string;
  pipelines: string;
  branches: string;
  tags: string;
}

const saidOf = (s?: Secret): Said => ({
  note: s?.note ?? '',
  expires: s?.expires?.slice(0, 10) ?? '',
  pipelines: s?.scope.pipelines?.join(', ') ?? '',
  branches: s?.scope.branches?.join(', ') ?? '',
  tags: s?.scope.tags?.join(', ') ?? '',
});

const settings = (s: Said) => ({
  note: s.note,
  expires: s.expires ? `${s.expires}T00:00:00Z` : '0001-01-01T00:00:00Z',
  scope: { pipelines: globs(s.pipelines), branches: globs(s.branches), tags: globs(s.tags) },
});

function SaidFields({ said, say }: { said: Said; say: (s: Said) => void }) {
  const field = (key: keyof Said, label: string, help: string) => (
    <TextField
      size="small"
      label={label}
      value={said[key]}
      helperText={help}
      onChange={(e) => say({ ...said, [key]: e.target.value })}
    />
  );
  return (
    <>
      {field('note', 'Note', 'For humans: what it opens, where to get a new one')}
      <TextField
        size="small"
        type="date"
        label="Expires"
        value={said.expires}
        slotProps={{ inputLabel: { shrink: true } }}
        onChange={(e) => say({ ...said, expires: e.target.value })}
      />
      <Box sx={{ display: 'grid', gridTemplateColumns: '1fr 1fr 1fr', gap: 1 }}>
        {field('pipelines', 'Only pipelines', 'Globs; empty: any')}
        {field('branches', 'Only branches', 'such as main')}
        {field('tags', 'Only tags', 'such as v*')}
      </Box>
    </>
  );
}

/** Asks for a secret's next value. It is sent, and never shown again. */
export function SetSecret({
  project,
  secret,
  close,
}: {
  project: string;
  secret?: Secret | undefined;
  close: () => void;
}) {
  const [name, setName] = useState(secret?.name ?? '');
  const [kind, setKind] = useState<'text' | 'file'>(secret?.kind ?? 'text');
  const [text, setText] = useState('');
  const [file, setFile] = useState<File | null>(null);
  const [said, say] = useState(saidOf(secret));
  const run = async () => {
    if (kind === 'file' && !file) throw new Error('Choose the file.');
    const value = await base64(kind === 'file' && file ? file : new Blob([text]));
    return take(
      await api.PUT('/api/v1/projects/{project}/secrets/{name}', {
        params: { path: { project, name } },
        body: { kind, value, settings: settings(said) },
      }),
    );
  };
  return (
    <FormDialog
      wide
      title={secret ? `New value of ${secret.name}` : 'Set a secret'}
      act="Set"
      close={close}
      changes="secrets"
      run={run}
    >
      {!secret && (
        <TextField
          size="small"
          required
          autoFocus
          label="Name"
          value={name}
          onChange={(e) => setName(e.target.value)}
          helperText="Letters, digits and _; SET:MEMBER for one of a set"
        />
      )}
      <ToggleButtonGroup
        exclusive
        size="small"
        value={kind}
        aria-label="Kind"
        onChange={(_, k: 'text' | 'file' | null) => k && setKind(k)}
      >
        <ToggleButton value="text">Text: a variable</ToggleButton>
        <ToggleButton value="file">File: any bytes</ToggleButton>
      </ToggleButtonGroup>
      {kind === 'text' ? (
        <TextField
          size="small"
          required
          multiline
          maxRows={6}
          label="Value"
          value={text}
          autoComplete="off"
          onChange={(e) => setText(e.target.value)}
          slotProps={{ htmlInput: { style: { WebkitTextSecurity: 'disc' }, spellCheck: false } }}
        />
      ) : (
        <Button component="label" variant="outlined">
          {file ? `${file.name}, ${size(file.size)}` : 'Choose a file …'}
          <input type="file" hidden onChange={(e) => setFile(e.target.files?.[0] ?? null)} />
        </Button>
      )}
      <SaidFields said={said} say={say} />
    </FormDialog>
  );
}

/** Changes what is said about a secret, not its value. */
export function ChangeSecret({ project, secret, close }: { project: string; secret: Secret; close: () => void }) {
  const [said, say] = useState(saidOf(secret));
  const [shared, share] = useState(secret.shared.join(', '));
  return (
    <FormDialog
      wide
      title={`About ${secret.name}`}
      act="Save"
      close={close}
      changes="secrets"
      run={async () =>
        take(
          await api.PUT('/api/v1/projects/{project}/secrets/{name}/settings', {
            params: { path: { project, name: secret.name } },
            body: { ...settings(said), shared: globs(shared) },
          }),
        )
      }
    >
      <SaidFields said={said} say={say} />
      <TextField
        size="small"
        label="Shared with projects"
        value={shared}
        onChange={(e) => share(e.target.value)}
        helperText="You must be a keeper of each"
      />
    </FormDialog>
  );
}

/** The values a secret has had, and the way back to one of them. */
export function SecretHistory({ project, secret, close }: { project: string; secret: Secret; close: () => void }) {
  const [back, setBack] = useState(0);
  const path = { project, name: secret.name };
  const list = useQuery({
    queryKey: ['secrets', project, secret.name, 'revisions'],
    queryFn: async () =>
      take(await api.GET('/api/v1/projects/{project}/secrets/{name}/revisions', { params: { path } })),
  });
  return (
    <FormDialog
      wide
      title={`Values of ${secret.name}`}
      act={back ? `Put revision ${back} back` : 'Put back'}
      close={close}
      changes="secrets"
      run={async () => {
        if (!back) throw new Error('Choose the value to put back.');
        return take(
          await api.POST('/api/v1/projects/{project}/secrets/{name}/restore', {
            params: { path },
            body: { revision: back },
          }),
        );
      }}
    >
      {list.error && (
        <Alert severity="error" variant="outlined">
          {list.error.message}
        </Alert>
      )}
      <List
        label={`Values of ${secret.name}`}
        heads={['Revision', 'Kind', 'Bytes', 'Set', 'By', '']}
        rows={(list.data ?? []).map((r, i) => ({
          key: String(r.revision),
          cells: [
            r.revision,
            r.kind,
            r.size || '',
            ago(r.set),
            r.by,
            i === 0 ? (
              'in use'
            ) : (
              <Button
                key="b"
                size="small"
                variant={back === r.revision ? 'contained' : 'text'}
                onClick={() => setBack(r.revision)}
              >
                This one
              </Button>
            ),
          ],
        }))}
      />
    </FormDialog>
  );
}

/** Removes a secret, after a word about what that means. */
export function DropSecret({ project, secret, close }: { project: string; secret: Secret; close: () => void }) {
  const mine = secret.home === project;
  return (
    <FormDialog
      danger
      title={`Remove ${secret.name}?`}
      act="Remove"
      close={close}
      changes="secrets"
      run={async () => {
        const a = await api.DELETE('/api/v1/projects/{project}/secrets/{name}', {
          params: { path: { project, name: secret.name } },
        });
        if (!a.response.ok) take(a);
      }}
    >
      {mine ? (
        <span>
          Its values are gone for good{secret.shared.length > 0 && `, also for ${secret.shared.join(', ')}`}. Runs that
          ask for it fail when they are planned.
        </span>
      ) : (
        <span>{secret.home} shares it. Only this project loses it.</span>
      )}
    </FormDialog>
  );
}
