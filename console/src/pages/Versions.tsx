import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Paper from '@mui/material/Paper';
import TextField from '@mui/material/TextField';
import Typography from '@mui/material/Typography';
import { keepPreviousData, useInfiniteQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link, useNavigate, useParams, useSearchParams } from 'react-router';
import { api, done, ledgerAddress, take, type LedgerLine } from '../api/client';
import { useKeys } from '../keys';
import { useMe } from '../me';
import { Choice } from '../parts/Choice';
import { FormDialog } from '../parts/FormDialog';
import { List } from '../parts/List';
import { ReleaseNotes } from '../parts/ReleaseNotes';
import { ago } from '../text';
import { mono } from '../theme';
import { platforms, together, type Handed } from '../versions';
import { Scrolled } from '../parts/Scrolled';

const states = { building: 'building', kept: 'kept', void: 'void' } as const;

const among = <T extends object>(of: T, word: string | null) =>
  word !== null && word in of ? (word as keyof T) : undefined;

/** Says which number a store had before the app came here. */
function FloorDialog({ project, line, close }: { project: string; line: LedgerLine; close: () => void }) {
  const [floor, setFloor] = useState('');
  const run = async () =>
    done(
      await api.PUT('/api/v1/projects/{project}/ledger/floor', {
        params: { path: { project } },
        body: { app: line.app, platform: line.platform, floor: Number(floor) },
      }),
    );
  return (
    <FormDialog
      title={`The floor of ${line.app} on ${platforms[line.platform]}`}
      act="Save"
      close={close}
      changes="ledger"
      run={run}
    >
      <Typography sx={{ color: 'text.secondary' }}>
        The highest build number that a store has already. The next is above it. A floor only rises.
      </Typography>
      <TextField
        autoFocus
        size="small"
        type="number"
        label="Build number"
        value={floor}
        placeholder={String(line.floor ?? line.last)}
        slotProps={{ inputLabel: { shrink: true }, htmlInput: { min: 1, max: 2_100_000_000 } }}
        onChange={(e) => setFloor(e.target.value)}
      />
    </FormDialog>
  );
}

/** How far each app has come on each platform. */
function Lines({ project, lines }: { project: string; lines: LedgerLine[] }) {
  const { may } = useMe();
  const [asked, ask] = useState<LedgerLine>();
  return (
    <>
      <Box sx={{ display: 'flex', gap: 1.5, flexWrap: 'wrap', mb: 2 }}>
        {lines.map((l) => (
          <Paper key={l.app + l.platform} sx={{ p: 1.5, minWidth: 200 }}>
            <Box sx={{ color: 'text.secondary', fontSize: 13 }}>
              {l.app} for {platforms[l.platform]}
            </Box>
            <Box sx={{ fontSize: 18 }}>
              {l.name || 'no name yet'} <Box component="span">({l.last})</Box>
            </Box>
            <Box sx={{ display: 'flex', alignItems: 'center', fontSize: 13, color: 'text.secondary', gap: 1 }}>
              {l.floor ? `a store had ${l.floor}` : 'no floor'}
              {may('keeper', project) && (
                <Button
                  size="small"
                  aria-label={`Set floor of ${l.app} for ${platforms[l.platform]}`}
                  onClick={() => ask(l)}
                >
                  Set floor
                </Button>
              )}
            </Box>
          </Paper>
        ))}
      </Box>
      {asked && <FloorDialog project={project} line={asked} close={() => ask(undefined)} />}
    </>
  );
}

const short = (commit: string) => (
  <Box component="span" sx={{ fontFamily: mono, fontSize: 12 }}>
    {commit.slice(0, 9)}
  </Box>
);

function cells(h: Handed, project: string, several: boolean, notes: (h: Handed) => void) {
  const e = h.entry;
  return [
    <Box key="n" sx={{ whiteSpace: 'nowrap' }}>
      <b>{e.name}</b>
      {several && <Box sx={{ fontSize: 12, color: 'text.secondary' }}>{e.app}</Box>}
    </Box>,
    h.builds,
    h.states,
    <Box key="r">
      <Box component={Link} to={`/${encodeURIComponent(project)}/${e.run}`} sx={{ color: 'primary.main' }}>
        {e.pipeline} run {e.run}
      </Box>
      <Box sx={{ fontSize: 12, color: 'text.secondary' }}>
        {e.branch} {short(e.commit)}, <time dateTime={e.issued}>{ago(e.issued)}</time>
      </Box>
    </Box>,
    e.landed ? short(e.landed) : '',
    e.why,
    <Button key="w" size="small" aria-label={`Notes of ${e.app} ${e.name}`} onClick={() => notes(h)}>
      Notes
    </Button>,
  ];
}

/** Links to all that the page lists, as files. */
function Export({ project, search }: { project: string; search: Record<string, string> }) {
  return (
    <Box sx={{ display: 'flex', gap: 1 }}>
      {(['csv', 'json'] as const).map((as) => (
        <Button key={as} component="a" size="small" href={ledgerAddress(project, { ...search, as })} download>
          Export {as.toUpperCase()}
        </Button>
      ))}
    </Box>
  );
}

/** What was handed out, the newest first, and what became of it. */
export default function Versions() {
  const { project = '' } = useParams();
  const go = useNavigate();
  const [search] = useSearchParams();
  useKeys({ u: () => void go(`/${encodeURIComponent(project)}`) });
  const state = among(states, search.get('state'));
  const platform = among(platforms, search.get('platform'));
  const app = search.get('app') ?? '';
  const [shown, show] = useState<Handed>();
  const chosen = { ...(state && { state }), ...(platform && { platform }), ...(app && { app }) };
  const pages = useInfiniteQuery({
    queryKey: ['ledger', project, state, platform, app],
    initialPageParam: 0,
    placeholderData: keepPreviousData,
    refetchInterval: 5_000,
    queryFn: async ({ pageParam }) => {
      const query = { ...chosen, ...(pageParam && { before: pageParam }) };
      return take(await api.GET('/api/v1/projects/{project}/ledger', { params: { path: { project }, query } }));
    },
    getNextPageParam: (page) => page.next,
  });
  const handed = together(pages.data?.pages.flatMap((p) => p.entries) ?? []);
  const lines = pages.data?.pages[0]?.lines ?? [];
  const apps = [...new Set(lines.map((l) => l.app))];
  return (
    <Box sx={{ p: 2, maxWidth: 1280, mx: 'auto' }}>
      <Box sx={{ display: 'flex', alignItems: 'center', gap: 1.5, mb: 1.5, flexWrap: 'wrap' }}>
        <Typography variant="h1" sx={{ flexGrow: 1 }}>
          Versions
        </Typography>
        <Export project={project} search={chosen} />
        {apps.length > 1 && (
          <Choice label="App" name="app" options={{ '': 'any', ...Object.fromEntries(apps.map((a) => [a, a])) }} />
        )}
        <Choice label="Platform" name="platform" options={{ '': 'any', ...platforms }} />
        <Choice label="State" name="state" options={{ '': 'any', ...states }} />
      </Box>
      {pages.error && (
        <Alert severity="error" variant="outlined" sx={{ mb: 1.5 }}>
          {pages.error.message}
        </Alert>
      )}
      {pages.data && <Lines project={project} lines={lines} />}
      {shown && (
        <ReleaseNotes of={{ project, app: shown.entry.app, name: shown.entry.name }} close={() => show(undefined)} />
      )}
      {pages.data && handed.length === 0 && (
        <Alert severity="info" variant="outlined">
          {state || platform || app
            ? 'Nothing of that kind.'
            : 'No version was handed out yet. A step raise = { by = "patch" } takes the first.'}
        </Alert>
      )}
      {handed.length > 0 && (
        <Scrolled>
          <List
            label="Versions"
            heads={['Version', 'Build', 'State', 'Run', 'Landed', 'Why', '']}
            rows={handed.map((h) => ({ key: h.key, cells: cells(h, project, apps.length > 1, show) }))}
          />
        </Scrolled>
      )}
      {pages.hasNextPage && (
        <Button sx={{ mt: 1 }} onClick={() => void pages.fetchNextPage()}>
          More
        </Button>
      )}
    </Box>
  );
}
