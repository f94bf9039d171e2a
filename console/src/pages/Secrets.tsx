import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Typography from '@mui/material/Typography';
import { useState } from 'react';
import { Link, useNavigate, useParams } from 'react-router';
import { api, take, type Secret } from '../api/client';
import { expiry, forRuns } from '../expiry';
import { useKeys } from '../keys';
import { useMe } from '../me';
import { Contains, More, useNamed } from '../paged';
import { List } from '../parts/List';
import { ChangeSecret, DropSecret, SecretHistory, SetSecret } from '../parts/SecretDialogs';
import { ago } from '../text';
import { Scrolled } from '../parts/Scrolled';

type Doing = { what: 'set' | 'change' | 'history' | 'drop'; secret?: Secret } | null;

const useSecrets = (project: string) =>
  useNamed(
    ['secrets', project],
    async (query) =>
      take(await api.GET('/api/v1/projects/{project}/secrets', { params: { path: { project }, query } })),
    (v) => v.name,
    500,
  );

/** A project's secrets: what each is for, who set it, which run used it last. Never a value. */
export default function Secrets() {
  const { project = '' } = useParams();
  const go = useNavigate();
  const { may } = useMe();
  const [doing, setDoing] = useState<Doing>(null);
  useKeys({ u: () => void go(`/${encodeURIComponent(project)}`) });
  const secrets = useSecrets(project);
  const { list } = secrets;
  const keeper = may('keeper', project);
  const close = () => setDoing(null);
  const s = doing?.secret;
  // Not those that are filtered: what expires stays said, and nothing jumps.
  const soon = useSecrets(project).list.filter((v) => expiry(v.expires).soon);
  return (
    <Box sx={{ p: 2, maxWidth: 1280, mx: 'auto' }}>
      <Box sx={{ display: 'flex', alignItems: 'center', gap: 1.5, mb: 1.5 }}>
        <Typography variant="h1">Secrets of {project}</Typography>
        <Box sx={{ flexGrow: 1, color: 'text.secondary' }}>
          {keeper ? 'Values are never shown to anybody.' : 'A keeper sets them; values are never shown.'}
        </Box>
        <Contains of={secrets} />
        {keeper && (
          <Button variant="contained" onClick={() => setDoing({ what: 'set' })}>
            Set a secret …
          </Button>
        )}
      </Box>
      {secrets.error && (
        <Alert severity="error" variant="outlined">
          {secrets.error.message}
        </Alert>
      )}
      {soon.length > 0 && (
        <Alert severity="warning" variant="outlined" sx={{ mb: 1.5 }}>
          {soon
            .map((v) => `${v.name}: ${expiry(v.expires).over ? '' : 'expires '}${expiry(v.expires).text}`)
            .join('. ')}
          . Set a new value in time.
        </Alert>
      )}
      {secrets.ready && list.length === 0 && (
        <Alert severity="info" variant="outlined">
          {secrets.contains
            ? 'No secret of that name.'
            : 'No secrets yet. A step that lists one gets it as a variable, or as a file at a path it names.'}
        </Alert>
      )}
      {list.length > 0 && (
        <Scrolled>
          <List
            label={`Secrets of ${project}`}
            heads={['Secret', 'Kind', 'Given to', 'Last used', 'Set', 'Expires', 'Note', '']}
            rows={list.map((v) => ({
              key: v.name,
              cells: [
                <Box key="n" component="b" sx={{ whiteSpace: 'nowrap' }}>
                  {v.name}
                </Box>,
                v.kind,
                forRuns(v.scope),
                v.used_run ? (
                  <Link
                    key="u"
                    to={`/${encodeURIComponent(v.used_in ?? project)}/${v.used_run}`}
                    style={{ color: 'inherit', whiteSpace: 'nowrap' }}
                  >
                    run {v.used_run}
                    {v.used_in !== project && ` of ${v.used_in}`}
                  </Link>
                ) : (
                  'never'
                ),
                <Box key="s" component="span" sx={{ whiteSpace: 'nowrap' }}>
                  {ago(v.updated)} by {v.by}, revision {v.revision}
                </Box>,
                <Box
                  key="e"
                  component="span"
                  sx={{
                    color: expiry(v.expires).over ? 'error.main' : 'inherit',
                    fontWeight: expiry(v.expires).soon ? 650 : 400,
                    whiteSpace: 'nowrap',
                  }}
                >
                  {expiry(v.expires).soon && '⚠ '}
                  {expiry(v.expires).text}
                </Box>,
                <Box key="o" component="span" sx={{ color: 'text.secondary' }}>
                  {v.home !== project && `from ${v.home}. `}
                  {v.shared.length > 0 && v.home === project && `also for ${v.shared.join(', ')}. `}
                  {v.note}
                </Box>,
                <Box key="a" sx={{ whiteSpace: 'nowrap', textAlign: 'right' }}>
                  {keeper && v.home === project && (
                    <>
                      <Button size="small" onClick={() => setDoing({ what: 'set', secret: v })}>
                        New value
                      </Button>
                      <Button size="small" onClick={() => setDoing({ what: 'change', secret: v })}>
                        About
                      </Button>
                      <Button size="small" onClick={() => setDoing({ what: 'history', secret: v })}>
                        Values
                      </Button>
                    </>
                  )}
                  {keeper && (
                    <Button size="small" color="error" onClick={() => setDoing({ what: 'drop', secret: v })}>
                      Remove
                    </Button>
                  )}
                </Box>,
              ],
            }))}
          />
        </Scrolled>
      )}
      <More of={secrets} />
      {doing?.what === 'set' && <SetSecret project={project} secret={s} close={close} />}
      {doing?.what === 'change' && s && <ChangeSecret project={project} secret={s} close={close} />}
      {doing?.what === 'history' && s && <SecretHistory project={project} secret={s} close={close} />}
      {doing?.what === 'drop' && s && <DropSecret project={project} secret={s} close={close} />}
    </Box>
  );
}
