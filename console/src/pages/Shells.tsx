import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Dialog from '@mui/material/Dialog';
import DialogContent from '@mui/material/DialogContent';
import DialogTitle from '@mui/material/DialogTitle';
import Paper from '@mui/material/Paper';
import Typography from '@mui/material/Typography';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import type { Terminal } from '@xterm/xterm';
import { useCallback, useState } from 'react';
import { useParams } from 'react-router';
import { api, done, take, type LookAround } from '../api/client';
import { useMe } from '../me';
import { Rows } from '../parts/Rows';
import { RunLink } from '../parts/RunLink';
import { Screen } from '../parts/Screen';
import { Scrolled } from '../parts/Scrolled';
import { StayLine, useStays } from '../parts/Stays';
import { recorded } from '../talk';
import { ago, size } from '../text';
import { mono } from '../theme';

/** Longer pauses are not played. */
const pause = 1_000;

const recordingOf = (project: string, id: number) =>
  `/api/v1/projects/${encodeURIComponent(project)}/shells/${id}/recording`;

function stateOf(h: LookAround): string {
  if (!h.ended_at && !h.opened_at) return h.secrets.length > 0 && !h.granted_by ? 'waits for a keeper' : 'waits';
  if (!h.ended_at) return 'open';
  if (h.exit_code !== undefined) return `ended with ${h.exit_code}`;
  return h.why ?? 'ended';
}

function what(h: LookAround): string {
  if (h.kind === 'files') return h.path && h.path !== '.' ? `took out ${h.path}` : 'took out all';
  return h.command ?? 'a shell';
}

/** Plays a recording. */
function Player({ project, of, close }: { project: string; of: LookAround; close: () => void }) {
  const cast = useQuery({
    queryKey: ['recording', project, of.id, of.printed],
    queryFn: async () => {
      const answer = await fetch(recordingOf(project, of.id));
      if (!answer.ok) throw new Error('Its recording cannot be read.');
      return answer.text();
    },
  });
  const begin = useCallback(
    (t: Terminal) => {
      const moments = cast.data === undefined ? [] : recorded(cast.data, pause);
      const timers = moments.map((m) =>
        setTimeout(() => {
          if (m.size) t.resize(...m.size);
          if (m.shows !== undefined) t.write(m.shows);
        }, m.at),
      );
      return () => timers.forEach(clearTimeout);
    },
    [cast.data],
  );
  return (
    <Dialog open onClose={close} maxWidth="lg" fullWidth>
      <DialogTitle>
        {what(of)}, by {of.who}
      </DialogTitle>
      <DialogContent>
        {cast.error && <Alert severity="error">{cast.error.message}</Alert>}
        <Box sx={{ height: '60vh' }}>
          {cast.data !== undefined && <Screen label="What it showed" fits={false} begin={begin} />}
        </Box>
        <Button size="small" component="a" href={recordingOf(project, of.id)} download={`shell-${of.id}.cast`}>
          Download (asciicast v2)
        </Button>
        <Button size="small" onClick={close}>
          Close
        </Button>
      </DialogContent>
    </Dialog>
  );
}

/** Who has looked around in workspaces of a project, with what they saw. */
export default function Shells() {
  const { project = '' } = useParams();
  const me = useMe();
  const queries = useQueryClient();
  const [played, setPlayed] = useState<LookAround>();
  const stays = useStays({ project });
  const shells = useQuery({
    queryKey: ['shells', project],
    refetchInterval: 5_000,
    queryFn: async () =>
      take(
        await api.GET('/api/v1/projects/{project}/shells', { params: { path: { project }, query: { limit: 200 } } }),
      ),
  });
  const grant = useMutation({
    mutationFn: async (id: number) =>
      done(await api.POST('/api/v1/projects/{project}/shells/{id}/grant', { params: { path: { project, id } } })),
    onSettled: () => void queries.invalidateQueries({ queryKey: ['shells', project] }),
  });
  const error = shells.error ?? stays.error ?? grant.error;
  return (
    <Box sx={{ p: 2, maxWidth: 1280, mx: 'auto' }}>
      <Typography variant="h1" sx={{ mb: 1.5 }}>
        Shells
      </Typography>
      {error && (
        <Alert severity="error" variant="outlined" sx={{ mb: 1.5 }}>
          {error.message}
        </Alert>
      )}
      <Paper component="section" aria-label="Workspaces that stay" sx={{ p: 1.5, mb: 1.5, display: 'grid', gap: 0.5 }}>
        {stays.data?.map((s) => (
          <StayLine key={`${s.run} ${s.job} ${s.attempt}`} of={s} named />
        ))}
        {stays.data?.length === 0 && (
          <Box sx={{ color: 'text.secondary' }}>
            No workspace stays. A job with <code>stay = &quot;15m&quot;</code> leaves its own when it has failed; on the
            page of a run at work one can be asked to.
          </Box>
        )}
      </Paper>
      {shells.data && shells.data.length > 0 && (
        <Scrolled>
          <Rows
            label="Who has looked around"
            heads={['Run', 'Job', 'Who', 'What', 'When', 'State', 'Shown', 'Secrets', '']}
            rows={shells.data.map((h) => ({
              key: String(h.id),
              to: `/${encodeURIComponent(project)}/${h.run}?job=${encodeURIComponent(h.job)}`,
              cells: [
                <RunLink key="r" to={`/${encodeURIComponent(project)}/${h.run}`} run={h.run} />,
                h.job,
                h.who,
                <Box
                  key="w"
                  component="span"
                  sx={{ fontFamily: h.command ? mono : undefined, overflowWrap: 'anywhere' }}
                >
                  {what(h)}
                </Box>,
                <Box key="t" component="span" sx={{ whiteSpace: 'nowrap' }}>
                  {ago(h.asked_at)}
                </Box>,
                stateOf(h),
                size(h.printed),
                h.secrets.length > 0 && `${h.secrets.join(', ')}${h.granted_by ? `, granted by ${h.granted_by}` : ''}`,
                <Box key="a" component="span" sx={{ whiteSpace: 'nowrap' }} onClick={(e) => e.stopPropagation()}>
                  {h.kind === 'shell' && h.opened_at && me.may('builder', project) && (
                    <Button size="small" onClick={() => setPlayed(h)}>
                      Play
                    </Button>
                  )}
                  {h.secrets.length > 0 && !h.granted_by && !h.ended_at && me.may('keeper', project) && (
                    <Button size="small" variant="outlined" onClick={() => grant.mutate(h.id)}>
                      Grant its secrets
                    </Button>
                  )}
                </Box>,
              ],
            }))}
          />
        </Scrolled>
      )}
      {played && <Player project={project} of={played} close={() => setPlayed(undefined)} />}
    </Box>
  );
}
