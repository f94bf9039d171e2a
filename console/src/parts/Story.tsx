import Box from '@mui/material/Box';
import type { Moment } from '../api/client';
import { lookOf } from '../releases';

const words: Record<string, string> = {
  raised: 'version',
  landed: 'landed',
  made: 'released',
  asked: 'asked',
  yes: '✓ yes',
  no: '✗ no',
  unanswered: '◷ unanswered',
  withdrawn: '⊘ withdrawn',
};

const colours: Record<string, string> = {
  yes: 'state.good',
  no: 'state.bad',
  withdrawn: 'state.bad',
  unanswered: 'state.late',
  asked: 'state.ask',
};

const clock = (t: string) =>
  new Date(t).toLocaleTimeString('en-GB', { hour: '2-digit', minute: '2-digit', second: '2-digit' });
const day = (t: string) => new Date(t).toLocaleDateString('en-CA');

/** What has become of a release, as one line of time. */
export function Story({ moments }: { moments: Moment[] }) {
  return (
    <Box
      component="ol"
      aria-label="What became of it"
      sx={{ m: 0, p: 1.5, listStyle: 'none', display: 'grid', rowGap: 0.75 }}
    >
      {moments.map((m, i) => {
        const before = moments[i - 1];
        return (
          <Box
            component="li"
            key={i}
            sx={{
              display: 'grid',
              gridTemplateColumns: { xs: '64px 88px 1fr', md: '84px 68px 96px 1fr' },
              columnGap: 1,
            }}
          >
            <Box
              component="span"
              sx={{ color: 'text.secondary', whiteSpace: 'nowrap', display: { xs: 'none', md: 'inline' } }}
            >
              {(!before || day(before.at) !== day(m.at)) && day(m.at)}
            </Box>
            <Box component="time" dateTime={m.at} sx={{ color: 'text.secondary', fontVariantNumeric: 'tabular-nums' }}>
              {clock(m.at)}
            </Box>
            <Box
              component="b"
              sx={{ color: colours[m.kind] ?? (m.to ? lookOf(m.kind).colour : 'text.primary'), whiteSpace: 'nowrap' }}
            >
              {words[m.kind] ?? `${lookOf(m.kind).sign} ${m.kind}`}
            </Box>
            <Box component="span" sx={{ overflowWrap: 'anywhere' }}>
              {m.to && (
                <>
                  <b>{m.to}</b>
                  {(m.by || m.text) && ': '}
                </>
              )}
              {m.by && <b>{m.by}</b>}
              {m.by && m.text && (m.to ? ' ' : ': ')}
              {m.text}
            </Box>
          </Box>
        );
      })}
    </Box>
  );
}
