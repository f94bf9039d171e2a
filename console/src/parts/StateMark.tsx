import Box from '@mui/material/Box';
import type { Theme } from '@mui/material/styles';
import type { State } from '../api/client';
import type { StateColours } from '../theme';

const looks: Record<State, { sign: string; colour: keyof StateColours }> = {
  queued: { sign: '·', colour: 'quiet' },
  running: { sign: '▸', colour: 'busy' },
  passed: { sign: '✓', colour: 'good' },
  failed: { sign: '✗', colour: 'bad' },
  cancelled: { sign: '⊘', colour: 'quiet' },
  'timed-out': { sign: '◷', colour: 'late' },
  skipped: { sign: '−', colour: 'quiet' },
  reused: { sign: '↺', colour: 'good' },
  waiting: { sign: '?', colour: 'ask' },
};

/** The colour of a state, from the theme in force. */
export const stateColour = (state: State) => (theme: Theme) =>
  theme.vars?.palette.state[looks[state].colour] ?? 'currentColor';

/** A state: its word, with a sign and a colour that go with it and never stand for it. */
export function StateMark({ state, size = 13, wordless = false }: { state: State; size?: number; wordless?: boolean }) {
  return (
    <Box
      component="span"
      sx={{
        color: stateColour(state),
        fontSize: size,
        fontWeight: 600,
        whiteSpace: 'nowrap',
        display: 'inline-flex',
        gap: '0.4em',
        alignItems: 'baseline',
      }}
    >
      <Box component="span" aria-hidden sx={{ width: '1em', textAlign: 'center' }}>
        {looks[state].sign}
      </Box>
      <Box
        component="span"
        sx={wordless ? { position: 'absolute', width: 1, height: 1, overflow: 'hidden', clipPath: 'inset(50%)' } : {}}
      >
        {state}
      </Box>
    </Box>
  );
}
