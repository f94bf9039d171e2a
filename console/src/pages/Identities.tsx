import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import MenuItem from '@mui/material/MenuItem';
import TextField from '@mui/material/TextField';
import Typography from '@mui/material/Typography';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link, useNavigate, useParams } from 'react-router';
import { api, take, type Identity } from '../api/client';
import { forRuns } from '../expiry';
import { useKeys } from '../keys';
import { useMe } from '../me';
import { Contains, More, useNamed } from '../paged';
import { FormDialog } from '../parts/FormDialog';
import { List } from '../parts/List';
import { ago } from '../text';
import { mono } from '../theme';
import { platforms } from '../versions';
import { Scrolled } from '../parts/Scrolled';

const kinds = { 'rsa-4096': 'RSA 4096', 'rsa-3072': 'RSA 3072', p256: 'P-256' } as const;

function Pick<K extends string>(p: { label: string; of: Record<K, string>; value: K; set: (key: K) => void }) {
  return (
    <TextField select size="small" label={p.label} value={p.value} onChange={(e) => p.set(e.target.value as K)}>
      {Object.entries<string>(p.of).map(([key, word]) => (
        <MenuItem key={key} value={key}>
          {word}
        </MenuItem>
      ))}
    </TextField>
  );
}

/** Has the service make a key. Nobody sees it. */
function MakeKey({ project, close }: { project: string; close: () => void }) {
  const [name, setName] = useState('');
  const [platform, setPlatform] = useState<keyof typeof platforms>('android');
  const [algorithm, setAlgorithm] = useState<keyof typeof kinds>('rsa-4096');
  const run = async () =>
    take(
      await api.PUT('/api/v1/projects/{project}/identities/{name}', {
        params: { path: { project, name } },
        body: { platform, make: { algorithm, name: `${project} ${name}`, years: 30 } },
      }),
    );
  return (
    <FormDialog title="Make a signing key" act="Make" close={close} changes="identities" run={run}>
      <Typography sx={{ color: 'text.secondary' }}>
        It is made in the service and known to nobody. Export it once, and keep the copy elsewhere. A key that you have
        is taken over by piston identity take.
      </Typography>
      <TextField autoFocus size="small" label="Name" value={name} onChange={(e) => setName(e.target.value)} />
      <Pick label="Platform" of={platforms} value={platform} set={setPlatform} />
      <Pick label="Key" of={kinds} value={algorithm} set={setAlgorithm} />
    </FormDialog>
  );
}

/** Gives a copy of a key away, under a passphrase, as a file of the browser's. */
function ExportKey({ project, identity, close }: { project: string; identity: Identity; close: () => void }) {
  const [passphrase, setPassphrase] = useState('');
  const run = async () => {
    const copy = take(
      await api.POST('/api/v1/projects/{project}/identities/{name}/export', {
        params: { path: { project, name: identity.name } },
        body: { passphrase },
      }),
    );
    const link = document.createElement('a');
    link.href = `data:application/x-pkcs12;base64,${copy.data}`;
    link.download = `${identity.name}.p12`;
    link.click();
  };
  return (
    <FormDialog
      title={`Take a copy of ${identity.name} away`}
      act="Export"
      close={close}
      changes="identities"
      run={run}
    >
      <Typography sx={{ color: 'text.secondary' }}>
        A PKCS #12 file. Keep it, and the passphrase, away from this server. That you took it is written down.
      </Typography>
      <TextField
        autoFocus
        size="small"
        type="password"
        label="Passphrase"
        helperText="12 characters at least"
        value={passphrase}
        onChange={(e) => setPassphrase(e.target.value)}
      />
    </FormDialog>
  );
}

/** Who signed what with which key, newest first. */
function Signatures({ project }: { project: string }) {
  const { data } = useQuery({
    queryKey: ['signatures', project],
    refetchInterval: 10_000,
    queryFn: async () =>
      take(
        await api.GET('/api/v1/projects/{project}/signatures', { params: { path: { project }, query: { limit: 50 } } }),
      ),
  });
  if (!data || data.signatures.length === 0) return null;
  return (
    <>
      <Typography variant="h2" sx={{ mt: 2.5, mb: 1 }}>
        Signatures that were given
      </Typography>
      <Scrolled>
        <List
          label="Signatures"
          heads={['When', 'File', 'App', 'Identity', 'Run', 'Runner']}
          rows={data.signatures.map((g) => ({
            key: String(g.id),
            cells: [
              <time key="t" dateTime={g.at}>
                {ago(g.at)}
              </time>,
              g.file,
              g.app,
              `${g.identity}, revision ${g.revision}`,
              <Box key="r">
                <Box component={Link} to={`/${encodeURIComponent(project)}/${g.run}`} sx={{ color: 'primary.main' }}>
                  {g.pipeline} run {g.run}
                </Box>{' '}
                {g.branch} <span style={{ fontFamily: mono, fontSize: 12 }}>{g.commit.slice(0, 9)}</span>
              </Box>,
              g.runner,
            ],
          }))}
        />
      </Scrolled>
    </>
  );
}

/** Signing keys in custody: what each is for, when it ends, what it signed. Never a key. */
export default function Identities() {
  const { project = '' } = useParams();
  const go = useNavigate();
  const { may } = useMe();
  const [making, make] = useState(false);
  const [leaving, leave] = useState<Identity>();
  useKeys({ u: () => void go(`/${encodeURIComponent(project)}`) });
  const identities = useNamed(
    ['identities', project],
    async (query) =>
      take(await api.GET('/api/v1/projects/{project}/identities', { params: { path: { project }, query } })),
    (i) => i.name,
  );
  const keeper = may('keeper', project);
  const warnings = identities.list.flatMap((i) => i.warnings.map((w) => ({ name: i.name, text: w })));
  return (
    <Box sx={{ p: 2, maxWidth: 1280, mx: 'auto' }}>
      <Box sx={{ display: 'flex', alignItems: 'center', gap: 1.5, mb: 1.5, flexWrap: 'wrap' }}>
        <Typography variant="h1">Identities</Typography>
        <Box sx={{ flexGrow: 1, color: 'text.secondary' }}>Keys are given to no runner, and shown to nobody.</Box>
        <Contains of={identities} />
        {keeper && (
          <Button variant="contained" onClick={() => make(true)}>
            Make a key …
          </Button>
        )}
      </Box>
      {identities.error && (
        <Alert severity="error" variant="outlined">
          {identities.error.message}
        </Alert>
      )}
      {warnings.length > 0 && (
        <Alert severity="warning" variant="outlined" sx={{ mb: 1.5 }}>
          {warnings.map((w, i) => (
            <div key={i}>
              <b>{w.name}</b>: {w.text}
            </div>
          ))}
        </Alert>
      )}
      {identities.ready && identities.list.length === 0 && (
        <Alert severity="info" variant="outlined">
          {identities.contains ? 'No identity of that name.' : 'No identity yet. A step with sign wants one.'}
        </Alert>
      )}
      {identities.list.length > 0 && (
        <Scrolled>
          <List
            label="Identities"
            heads={['Identity', 'Platform', 'Key', 'Until', 'For', 'Profiles', 'Copy', '']}
            rows={identities.list.map((i) => ({
              key: i.name,
              cells: [
                <Box key="n" component="b" sx={{ whiteSpace: 'nowrap' }}>
                  {i.name}
                </Box>,
                platforms[i.platform],
                <Box key="k">
                  {i.key}, revision {i.revision}
                  <Box
                    sx={{ fontFamily: mono, fontSize: 12, color: 'text.secondary' }}
                    title={`SHA-256 ${i.fingerprints.sha256}`}
                  >
                    {i.fingerprints.sha256.slice(0, 23)}…
                  </Box>
                </Box>,
                i.ends.slice(0, 10),
                <Box key="f">
                  {i.apps.join(', ') || 'any app'}
                  <Box sx={{ fontSize: 12, color: 'text.secondary' }}>{forRuns(i.scope)}</Box>
                </Box>,
                i.profiles.map((p) => `${p.app}, until ${p.ends.slice(0, 10)}`).join('; '),
                i.token
                  ? `stays in token ${i.token}`
                  : i.exported
                    ? `taken by ${i.exported_by ?? ''} ${ago(i.exported)}`
                    : 'none yet',
                keeper && !i.token && (
                  <Button key="e" size="small" aria-label={`Export ${i.name}`} onClick={() => leave(i)}>
                    Export
                  </Button>
                ),
              ],
            }))}
          />
        </Scrolled>
      )}
      <More of={identities} />
      <Signatures project={project} />
      {making && <MakeKey project={project} close={() => make(false)} />}
      {leaving && <ExportKey project={project} identity={leaving} close={() => leave(undefined)} />}
    </Box>
  );
}
