import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Checkbox from '@mui/material/Checkbox';
import FormControlLabel from '@mui/material/FormControlLabel';
import LinearProgress from '@mui/material/LinearProgress';
import Paper from '@mui/material/Paper';
import TextField from '@mui/material/TextField';
import Typography from '@mui/material/Typography';
import { keepPreviousData, useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { useNavigate, useParams, useSearchParams } from 'react-router';
import { api, done, take, type Budget, type Usage } from '../api/client';
import { useKeys } from '../keys';
import { useMe } from '../me';
import { Choice } from '../parts/Choice';
import { FormDialog } from '../parts/FormDialog';
import { List } from '../parts/List';
import { stateColour } from '../parts/StateMark';
import { count, span } from '../text';
import { Scrolled } from '../parts/Scrolled';

const bys = { '': 'pipeline', job: 'job', machine: 'kind of machine', person: 'person', project: 'project' } as const;
type By = Exclude<keyof typeof bys, ''> | 'pipeline';

const wastes: Record<string, string> = {
  superseded: 'runs that a newer push made needless',
  repeated: 'jobs tried again',
  flaky: 'failures of what passed unchanged',
  'missed-caches': 'longer since a cache was missed',
  planning: 'failed before they began',
};

const stands = { fine: 'passed', warned: 'waiting', spent: 'failed' } as const;

function BudgetDialog({ project, of }: { project: string; of: Budget | undefined }) {
  const queries = useQueryClient();
  const [open, setOpen] = useState(false);
  const [minutes, setMinutes] = useState('');
  const [warnAt, setWarnAt] = useState('80');
  const [hold, setHold] = useState(false);
  const at = { params: { path: { project } } };
  const drop = useMutation({
    mutationFn: async () => done(await api.DELETE('/api/v1/projects/{project}/budget', at)),
    onSuccess: () => queries.invalidateQueries({ queryKey: ['usage'] }),
  });
  return (
    <>
      <Button
        variant="outlined"
        onClick={() => {
          setMinutes(String(of?.minutes ?? ''));
          setWarnAt(String(of?.warn_at ?? 80));
          setHold(of?.hold ?? false);
          setOpen(true);
        }}
      >
        {of ? 'Budget …' : 'Give it a budget …'}
      </Button>
      {of && (
        <Button onClick={() => drop.mutate()} disabled={drop.isPending}>
          No budget
        </Button>
      )}
      {open && (
        <FormDialog
          title={`Budget of ${project}`}
          act="Set"
          changes="usage"
          close={() => setOpen(false)}
          run={async () =>
            take(
              await api.PUT('/api/v1/projects/{project}/budget', {
                ...at,
                body: { minutes: Number(minutes), warn_at: Number(warnAt), hold },
              }),
            )
          }
        >
          <TextField
            label="Minutes of machines each month"
            type="number"
            required
            autoFocus
            value={minutes}
            onChange={(e) => setMinutes(e.target.value)}
          />
          <TextField
            label="Warn from so many per cent on"
            type="number"
            value={warnAt}
            onChange={(e) => setWarnAt(e.target.value)}
          />
          <FormControlLabel
            control={<Checkbox checked={hold} onChange={(e) => setHold(e.target.checked)} />}
            label="Hold the project once it is used up"
          />
        </FormDialog>
      )}
    </>
  );
}

function BudgetBar({ of }: { of: Budget }) {
  return (
    <Box sx={{ color: stateColour(stands[of.state]), minWidth: 260 }}>
      <Box sx={{ fontWeight: 650 }}>
        Budget: {of.percent} % of {count(of.minutes, 'minute')} used ({of.state}){of.hold && '; then it is held'}
      </Box>
      <LinearProgress
        variant="determinate"
        color="inherit"
        value={Math.min(100, of.percent)}
        aria-label={`${of.percent} % of the budget used`}
      />
    </Box>
  );
}

function Parts({ of, by }: { of: Usage; by: By }) {
  return (
    <Scrolled>
      <List
        label={`Used, by ${by}`}
        heads={[by[0]?.toUpperCase() + by.slice(1), 'Used', 'Share', 'Runs', 'Waited before']}
        rows={of.parts.map((p) => ({
          key: p.name,
          cells: [
            p.name,
            span(p.used_ms),
            <Box key="s" sx={{ display: 'flex', alignItems: 'center', gap: 1, minWidth: 120 }}>
              <Box
                aria-hidden
                sx={{
                  height: 8,
                  width: `${(80 * p.used_ms) / Math.max(1, of.used_ms)}px`,
                  bgcolor: 'primary.main',
                  borderRadius: 1,
                }}
              />
              {Math.round((100 * p.used_ms) / Math.max(1, of.used_ms))} %
            </Box>,
            p.runs,
            span(p.waited_ms ?? 0),
          ],
        }))}
      />
    </Scrolled>
  );
}

/** How many minutes machines were at work, for what, what could have been spared, and the budget. */
export default function UsagePage() {
  const { project } = useParams();
  const go = useNavigate();
  const { may } = useMe();
  const [search, setSearch] = useSearchParams();
  useKeys({ u: () => void go(project ? `/${encodeURIComponent(project)}` : '/') });
  const chosen = search.get('by') ?? '';
  const by: By = chosen !== '' && chosen in bys ? (chosen as By) : project ? 'pipeline' : 'project';
  const month = search.get('month') ?? '';
  const query = { by, ...(month && { month }) };
  const usage = useQuery({
    queryKey: ['usage', project, by, month],
    placeholderData: keepPreviousData,
    queryFn: async () =>
      project
        ? take(await api.GET('/api/v1/projects/{project}/usage', { params: { path: { project }, query } }))
        : take(await api.GET('/api/v1/usage', { params: { query } })),
  });
  const u = usage.data;
  const now = new Date().toISOString().slice(0, 7);
  return (
    <Box sx={{ p: 2, maxWidth: 1280, mx: 'auto' }}>
      <Box sx={{ display: 'flex', alignItems: 'center', gap: 1.5, mb: 1.5, flexWrap: 'wrap' }}>
        <Typography variant="h1" sx={{ flexGrow: 1 }}>
          Usage
        </Typography>
        <TextField
          size="small"
          type="month"
          label="Month"
          value={month || u?.month || now}
          onChange={(e) =>
            setSearch(
              (s) => {
                if (e.target.value && e.target.value !== now) s.set('month', e.target.value);
                else s.delete('month');
                return s;
              },
              { replace: true },
            )
          }
          slotProps={{ inputLabel: { shrink: true } }}
        />
        <Choice label="By" name="by" options={bys} />
        {project && may('keeper', project) && <BudgetDialog project={project} of={u?.budget} />}
      </Box>
      {usage.error && (
        <Alert severity="error" variant="outlined">
          {usage.error.message}
        </Alert>
      )}
      {u && (
        <Box sx={{ display: 'grid', gap: 1.5 }}>
          <Paper sx={{ p: 1.5, display: 'flex', gap: 3, flexWrap: 'wrap', alignItems: 'center' }}>
            <Box>
              <Box sx={{ fontSize: 20, fontWeight: 650 }}>{span(u.used_ms)}</Box>
              machines at work in {u.month}
            </Box>
            {u.month === now && (
              <Box>
                <Box sx={{ fontSize: 20, fontWeight: 650 }}>{span(u.forecast_ms)}</Box>
                by its end, if it goes on as in the last four weeks
              </Box>
            )}
            {u.months
              .filter((m) => m.month !== u.month)
              .slice(-3)
              .map((m) => (
                <Box key={m.month}>
                  <Box sx={{ fontSize: 20, color: 'text.secondary' }}>{span(m.used_ms)}</Box>
                  in {m.month}
                </Box>
              ))}
            {u.budget && <BudgetBar of={u.budget} />}
          </Paper>
          <Parts of={u} by={by} />
          <Scrolled>
            <List
              label="What could have been spared"
              heads={['What could have been spared', 'Time', 'Runs or jobs']}
              rows={u.waste.map((w) => ({ key: w.name, cells: [wastes[w.name], span(w.used_ms), w.runs] }))}
            />
          </Scrolled>
        </Box>
      )}
    </Box>
  );
}
