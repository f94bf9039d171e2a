import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Paper from '@mui/material/Paper';
import TextField from '@mui/material/TextField';
import Typography from '@mui/material/Typography';
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { Link, useNavigate, useParams, useSearchParams } from 'react-router';
import { api, take } from '../api/client';
import { useKeys } from '../keys';
import { Findings } from '../parts/FailurePanel';
import { Rows } from '../parts/Rows';
import { StartDialog } from '../parts/StartDialog';
import { useTopic } from '../stream';
import { count } from '../text';

/**
 * A project's pipelines at a branch: what starts them, what they ask for, what is wrong with them, when they are due.
 */
export default function Pipelines() {
  const { project = '' } = useParams();
  const [search, setSearch] = useSearchParams();
  const ref = search.get('ref') ?? '';
  const go = useNavigate();
  useTopic({ project });
  useKeys({ u: () => void go(`/${encodeURIComponent(project)}`) });
  const list = useQuery({
    queryKey: ['pipelines', project, ref],
    placeholderData: keepPreviousData,
    queryFn: async () =>
      take(await api.GET('/api/v1/projects/{project}/pipelines', { params: { path: { project }, query: { ref } } })),
  });
  const due = useQuery({
    queryKey: ['schedules', project],
    queryFn: async () => take(await api.GET('/api/v1/projects/{project}/schedules', { params: { path: { project } } })),
  });
  const at = ref && `?ref=${encodeURIComponent(ref)}`;
  return (
    <Box sx={{ p: 2, maxWidth: 1280, mx: 'auto' }}>
      <Box sx={{ display: 'flex', alignItems: 'center', gap: 1.5, mb: 1.5 }}>
        <Typography variant="h1" sx={{ flexGrow: 1 }}>
          Pipelines of {project}{' '}
          {list.data && (
            <Box component="span" sx={{ fontWeight: 400, color: 'text.secondary', fontSize: 14 }}>
              at {list.data.ref} {list.data.commit.slice(0, 7)}
            </Box>
          )}
        </Typography>
        <TextField
          size="small"
          label="Branch, tag or commit"
          defaultValue={ref}
          onKeyDown={(e) => {
            if (e.key === 'Enter')
              setSearch((e.target as HTMLInputElement).value ? { ref: (e.target as HTMLInputElement).value } : {});
          }}
        />
        <Button component={Link} to={`/${encodeURIComponent(project)}/pipelines/new?blank=1`} variant="outlined">
          Write a new one
        </Button>
        <StartDialog project={project} pipelines={list.data?.pipelines ?? []} at={ref} />
      </Box>
      {list.error && (
        <Alert severity="error" variant="outlined">
          {list.error.message}
        </Alert>
      )}
      {list.data?.pipelines.length === 0 && (
        <Alert severity="info" variant="outlined">
          There is no file <code>piston/*.toml</code> at this commit.
        </Alert>
      )}
      {list.data && list.data.pipelines.length > 0 && (
        <Paper>
          <Rows
            label={`Pipelines of ${project}`}
            heads={['Pipeline', 'For', 'Starts on', 'Asks for', 'Jobs', 'Found']}
            rows={list.data.pipelines.map((p) => {
              const to = `/${encodeURIComponent(project)}/pipelines/${encodeURIComponent(p.name)}${at}`;
              const errors = p.findings.filter((f) => f.severity === 'error').length;
              return {
                key: p.name,
                to,
                cells: [
                  <Box
                    key="n"
                    component={Link}
                    to={to}
                    onClick={(e) => e.stopPropagation()}
                    sx={{ fontWeight: 650, color: 'inherit' }}
                  >
                    {p.name}
                  </Box>,
                  p.about,
                  <Box key="t">
                    {p.triggers.length === 0 ? 'by hand only' : p.triggers.map((t) => <div key={t}>{t}</div>)}
                  </Box>,
                  p.inputs.map((i) => i.name).join(', '),
                  p.jobs.length || '',
                  <Box key="f" sx={{ color: errors ? 'error.main' : 'text.secondary', whiteSpace: 'nowrap' }}>
                    {p.findings.length === 0
                      ? 'nothing'
                      : [
                          errors && count(errors, 'error'),
                          p.findings.length - errors && count(p.findings.length - errors, 'warning'),
                        ]
                          .filter(Boolean)
                          .join(', ')}
                  </Box>,
                ],
              };
            })}
          />
        </Paper>
      )}
      {due.data && due.data.length > 0 && (
        <>
          <Typography variant="h2" sx={{ mt: 3, mb: 1 }}>
            Due next
          </Typography>
          <Paper>
            <Rows
              label="Schedules"
              heads={['When', 'Pipeline', 'Schedule', 'Cron', 'Zone', 'Last run', 'Note']}
              rows={due.data.map((d) => ({
                key: `${d.pipeline}/${d.name}`,
                to: d.last_run
                  ? `/${encodeURIComponent(project)}/${d.last_run}`
                  : `/${encodeURIComponent(project)}/pipelines/${encodeURIComponent(d.pipeline)}`,
                cells: [
                  new Date(d.next).toLocaleString('en-GB', {
                    timeZone: d.zone,
                    dateStyle: 'medium',
                    timeStyle: 'short',
                  }),
                  d.pipeline,
                  d.name,
                  d.cron,
                  d.zone,
                  d.last_run ? `run ${d.last_run}` : '',
                  d.note,
                ],
              }))}
            />
          </Paper>
        </>
      )}
      {list.data && list.data.findings.length > 0 && (
        <Box sx={{ mx: -1.5 }}>
          <Findings findings={list.data.findings} />
        </Box>
      )}
    </Box>
  );
}
