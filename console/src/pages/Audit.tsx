import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import TextField from '@mui/material/TextField';
import Typography from '@mui/material/Typography';
import { keepPreviousData, useInfiniteQuery } from '@tanstack/react-query';
import { useNavigate, useParams, useSearchParams } from 'react-router';
import { api, take } from '../api/client';
import { useKeys } from '../keys';
import { List } from '../parts/List';
import { changeText } from '../audit';
import { mono } from '../theme';
import { Scrolled } from '../parts/Scrolled';

const pageSize = 100;

/**
 * Who did what, newest first: in one project for its keepers, everywhere for administrators. Nothing of it can be
 * changed.
 */
export default function Audit() {
  const { project = '' } = useParams();
  const go = useNavigate();
  const [search, setSearch] = useSearchParams();
  useKeys({ u: () => void go(project ? `/${encodeURIComponent(project)}` : '/') });
  const filter = Object.fromEntries(
    ['who', 'act', 'subject'].map((k) => [k, search.get(k) ?? '']).filter(([, v]) => v),
  );
  const pages = useInfiniteQuery({
    queryKey: ['audit', project, filter],
    initialPageParam: 0,
    placeholderData: keepPreviousData,
    queryFn: async ({ pageParam }) => {
      const query = { ...filter, limit: pageSize, ...(pageParam && { before: pageParam }) };
      return take(
        project
          ? await api.GET('/api/v1/projects/{project}/audit', { params: { path: { project }, query } })
          : await api.GET('/api/v1/audit', { params: { query } }),
      );
    },
    getNextPageParam: (page) => page.next,
  });
  const acts = pages.data?.pages.flatMap((p) => p.acts) ?? [];
  const field = (key: string, label: string) => (
    <TextField
      size="small"
      label={label}
      value={search.get(key) ?? ''}
      onChange={(e) =>
        setSearch(
          (s) => {
            if (e.target.value) s.set(key, e.target.value);
            else s.delete(key);
            return s;
          },
          { replace: true },
        )
      }
    />
  );
  return (
    <Box sx={{ p: 2, maxWidth: 1280, mx: 'auto' }}>
      <Box sx={{ display: 'flex', alignItems: 'center', gap: 1.5, mb: 1.5 }}>
        <Typography variant="h1" sx={{ flexGrow: 1 }}>
          What was done{project && ` in ${project}`}
        </Typography>
        {field('who', 'Who')}
        {field('act', 'Act, such as secret')}
        {field('subject', 'To what')}
      </Box>
      {pages.error && (
        <Alert severity="error" variant="outlined">
          {pages.error.message}
        </Alert>
      )}
      {pages.data && acts.length === 0 && (
        <Alert severity="info" variant="outlined">
          Nothing of that kind was done.
        </Alert>
      )}
      {acts.length > 0 && (
        <Scrolled>
          <List
            label="What was done"
            heads={
              project
                ? ['When', 'Who', 'From', 'Act', 'To what', 'Before → after']
                : ['When', 'Who', 'From', 'Act', 'Project', 'To what', 'Before → after']
            }
            rows={acts.map((a) => ({
              key: String(a.id),
              cells: [
                <Box key="t" component="time" dateTime={a.at} sx={{ whiteSpace: 'nowrap' }}>
                  {new Date(a.at).toLocaleString('en-GB', { dateStyle: 'medium', timeStyle: 'medium' })}
                </Box>,
                <b key="w">{a.who}</b>,
                <Box key="f" component="span" sx={{ whiteSpace: 'nowrap' }}>
                  {a.door} {a.address}
                </Box>,
                <Box key="a" component="span" sx={{ fontFamily: mono, fontSize: 13, whiteSpace: 'nowrap' }}>
                  {a.act}
                </Box>,
                ...(project ? [] : [a.project]),
                a.subject,
                <Box key="c" component="span" sx={{ color: 'text.secondary', overflowWrap: 'anywhere' }}>
                  {changeText(a.before, a.after)}
                </Box>,
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
    </Box>
  );
}
