import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Checkbox from '@mui/material/Checkbox';
import FormControlLabel from '@mui/material/FormControlLabel';
import MenuItem from '@mui/material/MenuItem';
import Paper from '@mui/material/Paper';
import TextField from '@mui/material/TextField';
import Typography from '@mui/material/Typography';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'react-router';
import { api, done, take, type Publication, type PublicationPlan, type ReleaseDetail } from '../api/client';
import { useMe } from '../me';
import { lookOf, publicationWord } from '../releases';
import { ago, size } from '../text';
import { FormDialog } from './FormDialog';
import { List } from './List';

const path = '/api/v1/projects/{project}/publications/{id}';

/** To how many of a hundred people it goes from now on; who has it, has it. */
function Raise({ of, close }: { of: Publication; close: () => void }) {
  const [percent, setPercent] = useState(String(Math.min(100, Math.max(of.out_to * 2, 1))));
  return (
    <FormDialog
      title={`${of.app} ${of.name} at ${of.outlet}`}
      act="Give it to them"
      close={close}
      changes="publications"
      run={async () =>
        done(
          await api.POST(`${path}/share`, {
            params: { path: { project: of.project, id: of.id } },
            body: { percent: Number(percent) },
          }),
        )
      }
    >
      <Box>{of.out_to} % of people have it; a share is never made smaller.</Box>
      <TextField
        label="Percent of people"
        required
        autoFocus
        value={percent}
        onChange={(e) => setPercent(e.target.value)}
        slotProps={{ htmlInput: { inputMode: 'numeric' } }}
      />
    </FormDialog>
  );
}

/** What may be done with one now. */
function Acts({ of }: { of: Publication }) {
  const [raises, setRaises] = useState(false);
  const queries = useQueryClient();
  const at = { params: { path: { project: of.project, id: of.id } } };
  const act = useMutation({
    mutationFn: async (what: 'halt' | 'withdraw' | number) => {
      if (typeof what === 'number') done(await api.POST(`${path}/share`, { ...at, body: { percent: what } }));
      else done(await api.POST(what === 'halt' ? `${path}/halt` : `${path}/withdraw`, at));
    },
    onSettled: () => queries.invalidateQueries({ queryKey: ['publications', of.project] }),
  });
  const over = of.state === 'refused' || of.state === 'withdrawn';
  if (over) return null;
  const given = of.state === 'shared' || of.state === 'out';
  return (
    <Box sx={{ display: 'flex', flexWrap: 'wrap' }}>
      {(of.state === 'halted' || of.state === 'accepted' || of.state === 'shared') && (
        <Button size="small" disabled={act.isPending} onClick={() => act.mutate(100)}>
          To all
        </Button>
      )}
      {(of.state === 'halted' || of.state === 'accepted' || of.state === 'shared') && (
        <Button size="small" onClick={() => setRaises(true)}>
          To some…
        </Button>
      )}
      {raises && <Raise of={of} close={() => setRaises(false)} />}
      {given && (
        <Button size="small" disabled={act.isPending} onClick={() => act.mutate('halt')}>
          Halt
        </Button>
      )}
      <Button size="small" color="error" disabled={act.isPending} onClick={() => act.mutate('withdraw')}>
        Withdraw
      </Button>
      {act.error && (
        <Box role="alert" sx={{ color: 'error.main' }}>
          {act.error.message}
        </Box>
      )}
    </Box>
  );
}

/** What publishing would change: what stands there, what would, and all that is missing with how to mend it. */
export function Plan({ plan }: { plan: PublicationPlan }) {
  return (
    <Box role="status" sx={{ fontSize: 13 }}>
      <div>
        Now: {plan.now.out.length === 0 && 'nothing stands there'}
        {plan.now.out.map((v) => `${v.name}, to ${v.share} %, since ${ago(v.since)}`).join('; ')}
      </div>
      {plan.now.last && <div>Last build number: {plan.now.last}; a new one has to be above it</div>}
      {plan.now.draft && <Box sx={{ color: 'error.main' }}>In the way: {plan.now.draft}</Box>}
      <div>
        Then: {plan.name}, to {plan.share} %; {size(plan.size)} to send
      </div>
      {plan.missing.map((m) => (
        <Box key={m.what} sx={{ mt: 0.5 }}>
          <Box component="b" sx={{ color: 'error.main' }}>
            Missing:
          </Box>{' '}
          {m.what}
          <Box sx={{ color: 'text.secondary' }}>{m.mend}</Box>
        </Box>
      ))}
    </Box>
  );
}

function Publish({ of, close }: { of: ReleaseDetail; close: () => void }) {
  const outlets = useQuery({
    queryKey: ['outlets', of.project],
    queryFn: async () =>
      take(await api.GET('/api/v1/projects/{project}/outlets', { params: { path: { project: of.project } } })),
  });
  const [outlet, setOutlet] = useState('');
  const [channel, setChannel] = useState('release');
  const [share, setShare] = useState('100');
  const [note, setNote] = useState('');
  const [hold, setHold] = useState(false);
  const chosen = outlet || outlets.data?.[0]?.name || '';
  const body = { outlet: chosen, channel, share: Number(share) || 100, note, hold };
  const params = { path: { project: of.project, app: of.app, name: of.name } };
  const plan = useQuery({
    queryKey: ['plan', of.project, of.app, of.name, { ...body, note: '' }],
    enabled: chosen !== '' && channel !== '',
    queryFn: async () =>
      take(await api.POST('/api/v1/projects/{project}/releases/{app}/{name}/publications/plan', { params, body })),
  });
  return (
    <FormDialog
      title={`Publish ${of.app} ${of.name}`}
      act="Publish"
      close={close}
      changes="publications"
      wide
      {...((!plan.data || plan.data.missing.length > 0) && { reading: true })}
      run={async () =>
        take(await api.POST('/api/v1/projects/{project}/releases/{app}/{name}/publications', { params, body }))
      }
    >
      {outlets.data?.length === 0 && <Box>There is no outlet yet: piston outlet set {of.project} NAME makes one.</Box>}
      {chosen && (
        <Box sx={{ display: 'flex', gap: 1.5, flexWrap: 'wrap' }}>
          <TextField
            select
            size="small"
            label="Outlet"
            value={chosen}
            onChange={(e) => setOutlet(e.target.value)}
            sx={{ minWidth: 180 }}
          >
            {outlets.data?.map((o) => (
              <MenuItem key={o.name} value={o.name}>
                {o.name}
              </MenuItem>
            ))}
          </TextField>
          <TextField size="small" label="Channel" value={channel} onChange={(e) => setChannel(e.target.value.trim())} />
          <TextField
            size="small"
            label="Percent of people"
            value={share}
            onChange={(e) => setShare(e.target.value)}
            slotProps={{ htmlInput: { inputMode: 'numeric' } }}
            sx={{ width: 150 }}
          />
          <TextField
            size="small"
            fullWidth
            label="What testers should look at"
            value={note}
            onChange={(e) => setNote(e.target.value)}
          />
          <FormControlLabel
            control={<Checkbox size="small" checked={hold} onChange={(e) => setHold(e.target.checked)} />}
            label="Keep it there until a share is set"
          />
        </Box>
      )}
      {plan.error && <Box sx={{ color: 'error.main' }}>{plan.error.message}</Box>}
      {plan.data && <Plan plan={plan.data} />}
    </FormDialog>
  );
}

/** Where a release went, how it stands there, and the way to bring it elsewhere. */
export function Publications({ of }: { of: ReleaseDetail }) {
  const may = useMe().may('keeper', of.project);
  const [open, setOpen] = useState(false);
  const query = useQuery({
    queryKey: ['publications', of.project, of.id],
    refetchInterval: 3_000,
    queryFn: async () =>
      take(
        await api.GET('/api/v1/projects/{project}/publications', {
          params: { path: { project: of.project }, query: { release: of.id, limit: 50 } },
        }),
      ),
  });
  const list = query.data?.publications ?? [];
  return (
    <Paper component="section" aria-label="Where it went" sx={{ mb: 1.5, overflowX: 'auto' }}>
      <Box sx={{ display: 'flex', alignItems: 'baseline', px: 1.5, pt: 1 }}>
        <Typography variant="h2" sx={{ flexGrow: 1 }}>
          Where it went
        </Typography>
        {may && !of.withdrawn && (
          <Button size="small" onClick={() => setOpen(true)}>
            Publish
          </Button>
        )}
      </Box>
      {query.data && list.length === 0 && <Box sx={{ px: 1.5, pb: 1.5, color: 'text.secondary' }}>Nowhere yet.</Box>}
      {list.length > 0 && (
        <List
          label="Publications"
          heads={['To', 'How it stands', 'Begun', '']}
          rows={list.map((p) => ({
            key: String(p.id),
            cells: [
              <span key="o">
                <b>{p.outlet}</b>, {p.channel}
              </span>,
              <Box key="s" sx={{ overflowWrap: 'anywhere' }}>
                <Box component="b" sx={{ color: lookOf(p.state).colour }}>
                  {lookOf(p.state).sign} {p.state}
                </Box>{' '}
                {publicationWord(p)}
                {p.asks.map((a) => (
                  <Box key={a} sx={{ color: 'state.late' }}>
                    to answer: {a}
                  </Box>
                ))}
                {p.trouble && <Box sx={{ color: 'state.late' }}>waits: {p.trouble}</Box>}
                {p.reasons.map((r) => (
                  <div key={r}>{r}</div>
                ))}
              </Box>,
              <span key="b">
                <time dateTime={p.begun}>{ago(p.begun)}</time>
                {p.by ? ` by ${p.by}` : ' by '}
                {!p.by && (
                  <Box
                    component={Link}
                    to={`/${encodeURIComponent(p.project)}/${p.run}`}
                    sx={{ color: 'primary.main' }}
                  >
                    run {p.run}
                  </Box>
                )}
              </span>,
              may ? <Acts key="a" of={p} /> : null,
            ],
          }))}
        />
      )}
      {open && <Publish of={of} close={() => setOpen(false)} />}
    </Paper>
  );
}
