import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Paper from '@mui/material/Paper';
import TextField from '@mui/material/TextField';
import Typography from '@mui/material/Typography';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link, useNavigate, useParams } from 'react-router';
import { api, artifactAddress, done, take, type ReleaseDetail, type ReleaseNote } from '../api/client';
import { useKeys } from '../keys';
import { useMe } from '../me';
import { FormDialog } from '../parts/FormDialog';
import { GatePanel } from '../parts/GatePanel';
import { List } from '../parts/List';
import { Publications } from '../parts/Publications';
import { ReleaseNotes } from '../parts/ReleaseNotes';
import { Says } from '../parts/Says';
import { TriedBy } from '../parts/TriedBy';
import { Story } from '../parts/Story';
import { buildsOf } from '../releases';
import { ago, size } from '../text';
import { mono } from '../theme';
import { platforms } from '../versions';
import { Scrolled } from '../parts/Scrolled';

/** A link that a finger meets. */
const target = { color: 'primary.main', display: 'inline-block', minHeight: 24 } as const;

/** What the release is made of; each file can be had. */
function Contents({ of }: { of: ReleaseDetail }) {
  const at = `/${encodeURIComponent(of.project)}`;
  return (
    <Scrolled>
      <List
        label="Packages"
        heads={['Package', 'For', 'Size', 'Checklist', 'SHA-256']}
        rows={of.contents.map((p) => ({
          key: String(p.id),
          cells: [
            <Box key="f">
              <Box component={Link} to={`${at}/packages/${p.id}`} sx={{ ...target, fontWeight: 600 }}>
                {p.file.split('/').pop()}
              </Box>{' '}
              <Box component="a" href={artifactAddress(of.project, of.run, p.artifact)} sx={target}>
                download
              </Box>
            </Box>,
            `${platforms[p.platform]} (${p.build})`,
            size(p.size),
            <Says key="s" of={p} />,
            <Box key="h" sx={{ fontFamily: mono, fontSize: 12 }}>
              {p.sha256.slice(0, 16)}
            </Box>,
          ],
        }))}
      />
    </Scrolled>
  );
}

/** What those who use the app are told, by language. */
function Told({ notes, edit }: { notes: ReleaseNote[]; edit: () => void }) {
  return (
    <Paper component="section" aria-label="Notes" sx={{ p: 1.5, mb: 1.5 }}>
      <Box sx={{ display: 'flex', alignItems: 'baseline', mb: 0.5 }}>
        <Typography variant="h2" sx={{ flexGrow: 1 }}>
          What is told of it
        </Typography>
        <Button size="small" onClick={edit}>
          Look closer
        </Button>
      </Box>
      {notes.length === 0 && <Box sx={{ color: 'text.secondary' }}>Nothing yet.</Box>}
      {notes.map((n) => (
        <Box key={n.language} sx={{ display: 'grid', gridTemplateColumns: '44px 1fr', columnGap: 1, mb: 0.5 }}>
          <Box component="span" sx={{ color: 'text.secondary' }}>
            {n.language}
          </Box>
          <Box lang={n.language} sx={{ whiteSpace: 'pre-wrap', overflowWrap: 'anywhere' }}>
            {n.text}
          </Box>
        </Box>
      ))}
    </Paper>
  );
}

function Withdraw({ of, close }: { of: ReleaseDetail; close: () => void }) {
  const [reason, setReason] = useState('');
  return (
    <FormDialog
      title={`Withdraw ${of.app} ${of.name}`}
      act="Withdraw"
      danger
      close={close}
      changes="release"
      run={async () =>
        done(
          await api.POST('/api/v1/projects/{project}/releases/{app}/{name}/withdraw', {
            params: { path: { project: of.project, app: of.app, name: of.name } },
            body: { reason },
          }),
        )
      }
    >
      <Box>It goes nowhere any more. Who has it already, has it.</Box>
      <TextField label="Why" required autoFocus value={reason} onChange={(e) => setReason(e.target.value)} />
    </FormDialog>
  );
}

/** A release: what is in it, who said what, and what became of it. */
export default function ReleasePage() {
  const { project = '', app = '', name = '' } = useParams();
  const go = useNavigate();
  const { may } = useMe();
  const [dialog, setDialog] = useState<'notes' | 'withdraw'>();
  useKeys({ u: () => void go(`/${encodeURIComponent(project)}/releases`) });
  const query = useQuery({
    queryKey: ['release', project, app, name],
    refetchInterval: 5_000,
    queryFn: async () =>
      take(
        await api.GET('/api/v1/projects/{project}/releases/{app}/{name}', { params: { path: { project, app, name } } }),
      ),
  });
  const r = query.data;
  if (query.error)
    return (
      <Alert severity="error" variant="outlined" sx={{ m: 2 }}>
        {query.error.message}
      </Alert>
    );
  if (!r) return null;
  return (
    <Box sx={{ p: 2, maxWidth: 1280, mx: 'auto' }}>
      <Box sx={{ display: 'flex', alignItems: 'baseline', gap: 1.5, mb: 1.5, flexWrap: 'wrap' }}>
        <Typography variant="h1">
          {r.app} {r.name}
        </Typography>
        <span>{buildsOf(r)}</span>
        <Box sx={{ flexGrow: 1, color: 'text.secondary' }}>
          <Box component={Link} to={`/${encodeURIComponent(project)}/${r.run}`} sx={{ color: 'primary.main' }}>
            {r.pipeline} run {r.run}
          </Box>{' '}
          of {r.branch || r.tag} <span style={{ fontFamily: mono }}>{r.commit.slice(0, 9)}</span>
          {r.made_by && `, by ${r.made_by}`}, <time dateTime={r.made}>{ago(r.made)}</time>
        </Box>
        {may('keeper', project) && !r.withdrawn && (
          <Button size="small" variant="outlined" color="error" onClick={() => setDialog('withdraw')}>
            Withdraw
          </Button>
        )}
      </Box>
      {r.withdrawn && (
        <Alert severity="warning" variant="outlined" sx={{ mb: 1.5 }}>
          Withdrawn by {r.withdrawn_by}, {ago(r.withdrawn)}: {r.reason}
        </Alert>
      )}
      {r.gates.map((g) => !g.outcome && <GatePanel key={g.id} gate={g} now={query.dataUpdatedAt} />)}
      <Publications of={r} />
      <Contents of={r} />
      <Box sx={{ display: 'grid', gridTemplateColumns: { xs: '1fr', md: '1fr 1fr' }, gap: 1.5, alignItems: 'start' }}>
        <Paper component="section" aria-label="Story">
          <Typography variant="h2" sx={{ px: 1.5, pt: 1.25 }}>
            What became of it
          </Typography>
          <Story moments={r.story} />
        </Paper>
        <Box>
          <Told notes={r.notes} edit={() => setDialog('notes')} />
          <TriedBy of={r} />
        </Box>
      </Box>
      {dialog === 'notes' && <ReleaseNotes of={{ project, app, name }} close={() => setDialog(undefined)} />}
      {dialog === 'withdraw' && <Withdraw of={r} close={() => setDialog(undefined)} />}
    </Box>
  );
}
