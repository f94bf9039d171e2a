import Box from '@mui/material/Box';
import Paper from '@mui/material/Paper';
import Typography from '@mui/material/Typography';
import { useQuery } from '@tanstack/react-query';
import { api, take, type ReleaseDetail, type Tried } from '../api/client';
import { ago } from '../text';

/** How many of each group have fetched it, and until when they can. */
function Groups({ of }: { of: Tried }) {
  return of.groups.map((g) => (
    <Box key={g.id}>
      <b>{g.group}</b>: {g.downloaded} of {g.testers} have fetched it, since {ago(g.begun)}, until {g.ends.slice(0, 10)}
      {g.halted && (
        <Box component="b" sx={{ color: 'state.late' }}>
          {' '}
          halted
        </Box>
      )}
    </Box>
  ));
}

/** Who has tried a release, and what they say. Nobody's address is shown. */
export function TriedBy({ of }: { of: ReleaseDetail }) {
  const query = useQuery({
    queryKey: ['tried', of.project, of.app, of.name],
    refetchInterval: 10_000,
    queryFn: async () =>
      take(
        await api.GET('/api/v1/projects/{project}/releases/{app}/{name}/tried', {
          params: { path: { project: of.project, app: of.app, name: of.name } },
        }),
      ),
  });
  const tried = query.data;
  if (!tried || tried.groups.length + tried.words.length === 0) return null;
  return (
    <Paper component="section" aria-label="Testers" sx={{ p: 1.5, mb: 1.5 }}>
      <Typography variant="h2" sx={{ mb: 0.5 }}>
        Who has tried it
      </Typography>
      <Groups of={tried} />
      {tried.words.map((w) => (
        <Box key={w.id} component="article" sx={{ display: 'flex', gap: 1.5, mt: 1.25, alignItems: 'start' }}>
          {w.picture && (
            <a href={`/api/v1/projects/${encodeURIComponent(of.project)}/words/${w.id}/picture`}>
              <Box
                component="img"
                src={`/api/v1/projects/${encodeURIComponent(of.project)}/words/${w.id}/picture`}
                alt={`Picture from tester ${w.tester}`}
                sx={{ width: 72, height: 96, objectFit: 'cover', border: 1, borderColor: 'divider', borderRadius: 1 }}
              />
            </a>
          )}
          <Box sx={{ minWidth: 0 }}>
            <Box sx={{ color: 'text.secondary', fontSize: 12 }}>
              tester {w.tester || 'who is none any more'}, <time dateTime={w.at}>{ago(w.at)}</time>
            </Box>
            <Box sx={{ whiteSpace: 'pre-wrap', overflowWrap: 'anywhere' }}>{w.text}</Box>
          </Box>
        </Box>
      ))}
    </Paper>
  );
}
