import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Paper from '@mui/material/Paper';
import TextField from '@mui/material/TextField';
import Typography from '@mui/material/Typography';
import { useMutation, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { useNavigate, useParams } from 'react-router';
import { api, done, take, type Outlet, type Tester } from '../api/client';
import { useKeys } from '../keys';
import { useMe } from '../me';
import { FormDialog } from '../parts/FormDialog';
import { List } from '../parts/List';
import { ago } from '../text';

/** Asks an outlet whether it answers, and to whom it gives credit. */
function Try({ project, name }: { project: string; name: string }) {
  const tried = useMutation({
    mutationFn: async () =>
      take(await api.POST('/api/v1/projects/{project}/outlets/{name}/try', { params: { path: { project, name } } })),
  });
  const trouble = tried.error?.message ?? tried.data?.trouble;
  return (
    <Box sx={{ display: 'flex', alignItems: 'center', gap: 1 }}>
      <Button size="small" disabled={tried.isPending} onClick={() => tried.mutate()} aria-label={`Try ${name}`}>
        Try
      </Button>
      <Box role="status" sx={{ color: trouble ? 'error.main' : 'state.good', overflowWrap: 'anywhere' }}>
        {tried.isPending ? '' : (trouble ?? (tried.data && '✓ it answers'))}
      </Box>
    </Box>
  );
}

const kinds: Record<string, string> = { folder: 'folder', bucket: 'bucket', store: 'store', testers: 'testers' };

function outletCells(o: Outlet, project: string, keeps: boolean) {
  const open = [...(o.scope.pipelines ?? []), ...(o.scope.branches ?? []), ...(o.scope.tags ?? [])];
  return [
    <b key="n">{o.name}</b>,
    kinds[o.kind] ?? o.kind,
    <Box key="w" sx={{ overflowWrap: 'anywhere', minWidth: 200 }}>
      {o.url ?? o.folder ?? (o.days ? `for ${o.days} days` : '')}
      {o.warnings.map((w) => (
        <Box key={w} sx={{ color: 'state.late' }}>
          {w}
        </Box>
      ))}
    </Box>,
    o.takes?.join(', ') ?? 'all packages',
    open.length > 0 ? open.join(', ') : 'any run',
    keeps ? <Try key="t" project={project} name={o.name} /> : null,
  ];
}

/** Puts people into a group of testers. */
function Add({ project, close }: { project: string; close: () => void }) {
  const [group, setGroup] = useState('');
  const [text, setText] = useState('');
  return (
    <FormDialog
      title="Add testers"
      act="Add"
      close={close}
      changes="testers"
      run={async () =>
        take(
          await api.POST('/api/v1/projects/{project}/testers', {
            params: { path: { project } },
            body: { group, addresses: text.split(/[\s,;]+/).filter(Boolean) },
          }),
        )
      }
    >
      <Box>Each gets a mail when a release is published to the group, with a link to a page of their own.</Box>
      <TextField label="Group" required autoFocus value={group} onChange={(e) => setGroup(e.target.value.trim())} />
      <TextField
        label="Mail addresses"
        required
        multiline
        minRows={3}
        value={text}
        onChange={(e) => setText(e.target.value)}
      />
    </FormDialog>
  );
}

const tester = '/api/v1/projects/{project}/testers/{id}';

/** What may be done with a tester. Both end what they have, and are asked about first. */
function TesterActs({ project, of }: { project: string; of: Tester }) {
  const [asks, setAsks] = useState<'link' | 'drop'>();
  const at = { params: { path: { project, id: of.id } } };
  return (
    <Box sx={{ display: 'flex', alignItems: 'center', whiteSpace: 'nowrap' }}>
      <Button size="small" component="a" href={of.link} target="_blank" rel="noreferrer">
        Their page
      </Button>
      <Button size="small" onClick={() => setAsks('link')}>
        New link
      </Button>
      <Button size="small" color="error" onClick={() => setAsks('drop')}>
        Drop
      </Button>
      {asks === 'link' && (
        <FormDialog
          title={`Another link for ${of.address}`}
          act="Give it"
          close={() => setAsks(undefined)}
          changes="testers"
          run={async () => take(await api.POST(`${tester}/link`, at))}
        >
          <Box>The one that they have leads nowhere any more. The next mail brings the new one.</Box>
        </FormDialog>
      )}
      {asks === 'drop' && (
        <FormDialog
          title={`Drop ${of.address}`}
          act="Drop"
          danger
          close={() => setAsks(undefined)}
          changes="testers"
          run={async () => done(await api.DELETE(tester, at))}
        >
          <Box>They get nothing more, and their link leads nowhere. What they said stays with the releases.</Box>
        </FormDialog>
      )}
    </Box>
  );
}

function testerCells(t: Tester, project: string) {
  return [
    <Box key="a" sx={{ overflowWrap: 'anywhere', minWidth: 200 }}>
      {t.address}
      {t.quiet && <Box sx={{ color: 'text.secondary' }}>wants no mail</Box>}
      {t.trouble && <Box sx={{ color: 'error.main' }}>gets no mail: {t.trouble.split(', affected')[0]}</Box>}
    </Box>,
    t.groups.join(', '),
    t.downloads === 0 ? 'nothing yet' : `${t.downloads} times${t.last ? `, ${ago(t.last)}` : ''}`,
    <TesterActs key="x" project={project} of={t} />,
  ];
}

/** Who tries releases; for keepers, since it tells their addresses. */
function Testers({ project }: { project: string }) {
  const [adds, setAdds] = useState(false);
  const [contains, setContains] = useState('');
  const [after, setAfter] = useState<number[]>([]);
  const query = useQuery({
    queryKey: ['testers', project, contains, after],
    queryFn: async () =>
      take(
        await api.GET('/api/v1/projects/{project}/testers', {
          params: { path: { project }, query: { contains, after: after.at(-1) ?? 0, limit: 50 } },
        }),
      ),
  });
  const page = query.data;
  return (
    <Paper component="section" aria-label="Testers" sx={{ overflowX: 'auto' }}>
      <Box sx={{ display: 'flex', alignItems: 'center', gap: 1.5, px: 1.5, pt: 1, flexWrap: 'wrap' }}>
        <Typography variant="h2" sx={{ flexGrow: 1 }}>
          Testers
        </Typography>
        <TextField
          size="small"
          label="Address"
          value={contains}
          onChange={(e) => {
            setContains(e.target.value.trim());
            setAfter([]);
          }}
        />
        <Button size="small" onClick={() => setAdds(true)}>
          Add testers
        </Button>
      </Box>
      {page && page.testers.length === 0 && (
        <Box sx={{ px: 1.5, pb: 1.5, color: 'text.secondary' }}>Nobody of that kind.</Box>
      )}
      {page && page.testers.length > 0 && (
        <List
          label="Testers"
          heads={['Address', 'Groups', 'Has fetched', '']}
          rows={page.testers.map((t) => ({ key: String(t.id), cells: testerCells(t, project) }))}
        />
      )}
      {(after.length > 0 || page?.next) && (
        <Box sx={{ px: 1.5, pb: 1 }}>
          <Button size="small" disabled={after.length === 0} onClick={() => setAfter(after.slice(0, -1))}>
            Before
          </Button>
          <Button size="small" disabled={!page?.next} onClick={() => page?.next && setAfter([...after, page.next])}>
            More
          </Button>
        </Box>
      )}
      {adds && <Add project={project} close={() => setAdds(false)} />}
    </Paper>
  );
}

/** Where a project's releases can go, and who tries them. */
export default function Outlets() {
  const { project = '' } = useParams();
  const go = useNavigate();
  const keeps = useMe().may('keeper', project);
  useKeys({ u: () => void go(`/${encodeURIComponent(project)}`) });
  const query = useQuery({
    queryKey: ['outlets', project],
    queryFn: async () => take(await api.GET('/api/v1/projects/{project}/outlets', { params: { path: { project } } })),
  });
  return (
    <Box sx={{ p: 2, maxWidth: 1280, mx: 'auto' }}>
      <Typography variant="h1" sx={{ mb: 1.5 }}>
        Outlets
      </Typography>
      {query.error && (
        <Alert severity="error" variant="outlined" sx={{ mb: 1.5 }}>
          {query.error.message}
        </Alert>
      )}
      {query.data?.length === 0 && (
        <Alert severity="info" variant="outlined" sx={{ mb: 1.5 }}>
          Releases can go nowhere yet: piston outlet set {project} NAME makes an outlet.
        </Alert>
      )}
      {query.data && query.data.length > 0 && (
        <Paper component="section" aria-label="Outlets" sx={{ overflowX: 'auto', mb: 1.5 }}>
          <List
            label="Outlets"
            heads={['Outlet', 'Kind', 'Where', 'Takes', 'Open to', '']}
            rows={query.data.map((o) => ({ key: o.name, cells: outletCells(o, project, keeps) }))}
          />
        </Paper>
      )}
      {keeps && <Testers project={project} />}
    </Box>
  );
}
