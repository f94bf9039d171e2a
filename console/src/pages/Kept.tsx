import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import TextField from '@mui/material/TextField';
import Typography from '@mui/material/Typography';
import { keepPreviousData, useInfiniteQuery, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link, useNavigate, useParams, useSearchParams } from 'react-router';
import { api, done, take, type Kept as KeptThings, type Rules } from '../api/client';
import { useKeys } from '../keys';
import { useMe } from '../me';
import { Choice } from '../parts/Choice';
import { FormDialog } from '../parts/FormDialog';
import { List } from '../parts/List';
import { ago, count, size } from '../text';
import { Scrolled } from '../parts/Scrolled';

const kinds = { artifact: 'Artifacts', cache: 'Caches', handover: 'Handed on between jobs', log: 'Logs' } as const;
type Kind = keyof typeof kinds;
const single: Record<Kind, string> = { artifact: 'artifact', cache: 'cache', handover: 'handed on', log: 'log' };

const days = (n: number | undefined, what: string) => (n === -1 ? 'kept for ever' : `${count(n ?? 0, 'day')} ${what}`);

/** The rules in force for a kind, in words. */
function rule(kind: Kind, r: Rules): string {
  switch (kind) {
    case 'artifact':
      return `${days(r.artifact_days, 'after the run')}; the latest ${r.artifact_runs} runs and releases stay`;
    case 'cache':
      return `${days(r.cache_days, 'after the last use')}; ${size(r.cache_bytes ?? 0)} in all`;
    case 'handover':
      return days(r.hand_days, 'after the run');
    case 'log':
      return days(r.log_days, 'after the run');
  }
}

const fields: [keyof Rules, string][] = [
  ['log_days', 'Days of logs'],
  ['artifact_days', 'Days of artifacts'],
  ['artifact_runs', 'Latest runs of a pipeline whose artifacts stay'],
  ['cache_days', 'Days of unused caches'],
  ['cache_bytes', 'Bytes of all caches'],
  ['hand_days', 'Days of what jobs hand on'],
];

/** Changes the project's own rules; what is left empty is as for all projects. */
function RulesDialog({ project, kept, close }: { project: string; kept: KeptThings; close: () => void }) {
  const [own, setOwn] = useState<Rules>(kept.own);
  const run = async () =>
    done(await api.PUT('/api/v1/projects/{project}/kept', { params: { path: { project } }, body: own }));
  return (
    <FormDialog title="What is kept, and how long" act="Save" close={close} changes="kept" run={run}>
      <Typography sx={{ color: 'text.secondary' }}>
        Left empty, the rules for all projects hold. Days of -1 keep for ever.
      </Typography>
      {fields.map(([name, label]) => (
        <TextField
          key={name}
          size="small"
          type="number"
          label={label}
          value={own[name] || ''}
          placeholder={String(kept.rules[name])}
          slotProps={{ inputLabel: { shrink: true } }}
          onChange={(e) => setOwn({ ...own, [name]: Number(e.target.value) || undefined })}
        />
      ))}
    </FormDialog>
  );
}

/** What is kept, one by one. */
function Things({ project }: { project: string }) {
  const [search] = useSearchParams();
  const kind = (Object.keys(kinds) as Kind[]).find((k) => k === search.get('kind'));
  const goes = (['yes', 'no'] as const).find((g) => g === search.get('goes'));
  const order = search.get('order') === 'largest' ? ('largest' as const) : ('oldest' as const);
  const pages = useInfiniteQuery({
    queryKey: ['kept', project, 'items', kind, goes, order],
    initialPageParam: '',
    placeholderData: keepPreviousData,
    queryFn: async ({ pageParam }) => {
      const query = { order, ...(kind && { kind }), ...(goes && { goes }), ...(pageParam && { after: pageParam }) };
      return take(await api.GET('/api/v1/projects/{project}/kept/items', { params: { path: { project }, query } }));
    },
    getNextPageParam: (page) => page.next,
  });
  const items = pages.data?.pages.flatMap((p) => p.items) ?? [];
  return (
    <>
      <Box sx={{ display: 'flex', alignItems: 'center', gap: 1.5, mb: 1, flexWrap: 'wrap' }}>
        <Typography variant="h2" sx={{ flexGrow: 1 }}>
          One by one
        </Typography>
        <Choice label="Kind" name="kind" options={{ '': 'any', ...kinds }} />
        <Choice label="Which" name="goes" options={{ '': 'all', yes: 'what goes next', no: 'what stays' }} />
        <Choice label="First" name="order" options={{ '': 'the oldest', largest: 'the largest' }} />
      </Box>
      {pages.error && (
        <Alert severity="error" variant="outlined" sx={{ mb: 1.5 }}>
          {pages.error.message}
        </Alert>
      )}
      {pages.data && items.length === 0 && (
        <Alert severity="info" variant="outlined">
          Nothing of that kind.
        </Alert>
      )}
      {items.length > 0 && (
        <Scrolled>
          <List
            label="One by one"
            heads={['Kind', 'What', 'Of run', 'Size', 'Since', '']}
            rows={items.map((n, i) => ({
              key: String(i),
              cells: [
                single[n.kind],
                <Box key="w" sx={{ overflowWrap: 'anywhere' }}>
                  {n.what}
                </Box>,
                n.run ? (
                  <Box
                    key="r"
                    component={Link}
                    to={`/${encodeURIComponent(project)}/${n.run}`}
                    sx={{ color: 'primary.main' }}
                  >
                    {n.run}
                  </Box>
                ) : null,
                size(n.size),
                <time key="s" dateTime={n.since}>
                  {ago(n.since)}
                </time>,
                n.goes ? 'goes next' : '',
              ],
            }))}
          />
        </Scrolled>
      )}
      {pages.hasNextPage && (
        <Button sx={{ mt: 1 }} onClick={() => void pages.fetchNextPage()}>
          More
        </Button>
      )}
    </>
  );
}

/** What a project's runs have left behind, by which rules it goes, and what goes next. */
export default function Kept() {
  const { project = '' } = useParams();
  const go = useNavigate();
  const { may } = useMe();
  const [changing, setChanging] = useState(false);
  useKeys({ u: () => void go(`/${encodeURIComponent(project)}`) });
  const kept = useQuery({
    queryKey: ['kept', project],
    queryFn: async () => take(await api.GET('/api/v1/projects/{project}/kept', { params: { path: { project } } })),
  });
  const k = kept.data;
  return (
    <Box sx={{ p: 2, maxWidth: 1280, mx: 'auto' }}>
      <Box sx={{ display: 'flex', alignItems: 'center', gap: 1.5, mb: 1.5, flexWrap: 'wrap' }}>
        <Typography variant="h1" sx={{ flexGrow: 1 }}>
          What is kept, and for how long
        </Typography>
        {k && may('keeper', project) && (
          <Button size="small" variant="outlined" onClick={() => setChanging(true)}>
            Change the rules
          </Button>
        )}
      </Box>
      {kept.error && (
        <Alert severity="error" variant="outlined" sx={{ mb: 1.5 }}>
          {kept.error.message}
        </Alert>
      )}
      {k && (
        <>
          <Scrolled>
            <List
              label="Kept"
              heads={['Kind', 'Count', 'Size', 'Goes next', 'Rule']}
              rows={k.sums.map((s) => ({
                key: s.kind,
                cells: [
                  kinds[s.kind],
                  s.count.toLocaleString('en'),
                  size(s.bytes),
                  s.going_count > 0 ? `${s.going_count.toLocaleString('en')}, ${size(s.going_bytes)}` : '',
                  rule(s.kind, k.rules),
                ],
              }))}
            />
          </Scrolled>
          <Typography sx={{ color: 'text.secondary', mb: 2 }}>
            {k.frees > 0 ? `The next sweep frees ${size(k.frees)}.` : 'Nothing goes with the next sweep.'} The server
            has {size(k.disk_free)} left on its disk. With less than {size(k.reserve)} caches are given up and no job is
            handed out.
          </Typography>
          <Things project={project} />
        </>
      )}
      {changing && k && <RulesDialog project={project} kept={k} close={() => setChanging(false)} />}
    </Box>
  );
}
