import Box from '@mui/material/Box';
import type { Since } from '../api/client';
import { mono } from '../theme';

/** What differs between two runs: commits, and values of all kinds. */
export function Differences({ of }: { of: Since }) {
  const kinds = [
    ['definition', of.definition],
    ['tool', of.tools],
    ['cache', of.caches],
    ['secret', of.secrets],
    ['runner', of.runners],
  ] as const;
  const none = of.commits.length === 0 && kinds.every(([, list]) => list.length === 0);
  return (
    <Box sx={{ fontSize: 12 }}>
      {of.commits.map((c) => (
        <Box key={c.id}>
          <Box component="span" sx={{ fontFamily: mono }}>
            {c.id.slice(0, 9)}
          </Box>{' '}
          {c.subject}{' '}
          <Box component="span" sx={{ color: 'text.secondary' }}>
            {c.author}
          </Box>
        </Box>
      ))}
      {kinds.flatMap(([word, list]) =>
        list.map((d) => (
          <Box key={word + d.what} sx={{ overflowWrap: 'anywhere' }}>
            <Box component="span" sx={{ color: 'text.secondary' }}>
              {word}
            </Box>{' '}
            {d.what}{' '}
            <Box component="span" sx={{ fontFamily: mono }}>
              {d.before || '(none)'} → {d.after || '(none)'}
            </Box>
          </Box>
        )),
      )}
      {none && 'nothing: the same commit, definition, tools, caches and secrets'}
    </Box>
  );
}
