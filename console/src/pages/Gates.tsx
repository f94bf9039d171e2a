import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Paper from '@mui/material/Paper';
import Typography from '@mui/material/Typography';
import { keepPreviousData, useInfiniteQuery } from '@tanstack/react-query';
import { Link, useNavigate, useSearchParams } from 'react-router';
import { api, take } from '../api/client';
import { gateWord, whoReads } from '../gates';
import { useKeys } from '../keys';
import { Choice } from '../parts/Choice';
import { Answers } from '../parts/GatePanel';
import { List } from '../parts/List';
import { ago } from '../text';

const pageSize = 50;

/** What people are asked before runs go on, newest first. */
export default function Gates() {
  const go = useNavigate();
  useKeys({ u: () => void go('/') });
  const [search] = useSearchParams();
  const which = search.get('which') ?? '';
  const pages = useInfiniteQuery({
    queryKey: ['gates', 'list', which],
    initialPageParam: 0,
    placeholderData: keepPreviousData,
    refetchInterval: 10_000,
    queryFn: async ({ pageParam }) => {
      const query = {
        limit: pageSize,
        open: which !== 'all',
        mine: which === 'mine',
        ...(pageParam && { before: pageParam }),
      };
      return take(await api.GET('/api/v1/gates', { params: { query } }));
    },
    getNextPageParam: (page) => page.next,
  });
  const now = pages.dataUpdatedAt;
  const gates = pages.data?.pages.flatMap((p) => p.gates) ?? [];
  return (
    <Box sx={{ p: 2, maxWidth: 1280, mx: 'auto' }}>
      <Box sx={{ display: 'flex', alignItems: 'center', gap: 1.5, mb: 1.5, flexWrap: 'wrap' }}>
        <Typography variant="h1" sx={{ flexGrow: 1 }}>
          Gates: what people are asked
        </Typography>
        <Choice
          label="Which"
          name="which"
          options={{ '': 'waiting', mine: 'for me to answer', all: 'also answered' }}
        />
      </Box>
      {pages.error && (
        <Alert severity="error" variant="outlined" sx={{ mb: 1.5 }}>
          {pages.error.message}
        </Alert>
      )}
      {pages.data && gates.length === 0 && (
        <Alert severity="info" variant="outlined">
          Nobody is asked anything.
        </Alert>
      )}
      {gates.length > 0 && (
        <Paper sx={{ overflowX: 'auto' }}>
          <List
            label="Gates"
            heads={['Question', 'Asked', 'How it stands']}
            rows={gates.map((g) => ({
              key: String(g.id),
              cells: [
                <Box key="q" sx={{ overflowWrap: 'anywhere' }}>
                  <b>{g.question}</b>
                  <Box sx={{ fontSize: 12 }}>
                    <Box
                      component={Link}
                      to={`/${encodeURIComponent(g.project)}/${g.run}`}
                      sx={{ color: 'primary.main' }}
                    >
                      {g.project} run {g.run}
                    </Box>
                    <Box component="span" sx={{ color: 'text.secondary' }}>
                      {` · ${g.pipeline} › ${g.job}`}
                    </Box>
                  </Box>
                </Box>,
                <Box key="w">
                  {whoReads(g.who)}
                  <Box sx={{ fontSize: 12, color: 'text.secondary' }}>
                    <time dateTime={g.asked}>{ago(g.asked, now)}</time>
                  </Box>
                </Box>,
                <Box key="h">
                  {gateWord(g, now)}
                  <Answers gate={g} now={now} />
                  {!g.outcome && !g.may_not && (
                    <Button size="small" component={Link} to={`/${encodeURIComponent(g.project)}/${g.run}`}>
                      Answer
                    </Button>
                  )}
                </Box>,
              ],
            }))}
          />
        </Paper>
      )}
      {pages.hasNextPage && (
        <Button sx={{ mt: 1 }} onClick={() => void pages.fetchNextPage()}>
          More
        </Button>
      )}
    </Box>
  );
}
