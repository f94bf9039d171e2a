import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import { Link, useNavigate, useSearchParams } from 'react-router';
import { api, take } from '../api/client';
import { gateWord, whoReads } from '../gates';
import { useKeys } from '../keys';
import { useNewest } from '../paged';
import { Choice } from '../parts/Choice';
import { Answers } from '../parts/GatePanel';
import { ListPage } from '../parts/ListPage';
import { ago } from '../text';

const pageSize = 50;

/** What people are asked before runs go on, newest first. */
export default function Gates() {
  const go = useNavigate();
  useKeys({ u: () => void go('/') });
  const [search] = useSearchParams();
  const which = search.get('which') ?? '';
  const list = useNewest(
    ['gates', 'list', which],
    10_000,
    async (before) => {
      const query = { limit: pageSize, open: which !== 'all', mine: which === 'mine', ...before };
      return take(await api.GET('/api/v1/gates', { params: { query } }));
    },
    (page) => page.gates,
  );
  const now = list.at;
  return (
    <ListPage
      title="Gates: what people are asked"
      label="Gates"
      narrow={
        <Choice
          label="Which"
          name="which"
          options={{ '': 'waiting', mine: 'for me to answer', all: 'also answered' }}
        />
      }
      of={list}
      none="Nobody is asked anything."
      heads={['Question', 'Asked', 'How it stands']}
      row={(g) => ({
        key: String(g.id),
        cells: [
          <Box key="q" sx={{ overflowWrap: 'anywhere' }}>
            <b>{g.question}</b>
            <Box sx={{ fontSize: 12 }}>
              <Box component={Link} to={`/${encodeURIComponent(g.project)}/${g.run}`} sx={{ color: 'primary.main' }}>
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
      })}
    />
  );
}
