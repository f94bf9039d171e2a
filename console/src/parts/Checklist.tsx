import Box from '@mui/material/Box';
import Paper from '@mui/material/Paper';
import type { Breach } from '../api/client';
import { LineText } from './LineText';

const wordOf = (b: Breach) =>
  b.accepted ? '○ accepted' : b.asked ? '? people are asked' : b.advice ? '△ advice' : '✗ against';

/** What the checklist says of a package: what is against a rule first, with how to mend it. */
export function Checklist({ breaches }: { breaches: Breach[] }) {
  const sorted = [...breaches].sort((a, b) => Number(!!a.accepted) - Number(!!b.accepted));
  return (
    <Paper component="section" aria-label="Checklist" sx={{ p: 1.5, mb: 1.5 }}>
      {sorted.length === 0 && (
        <Box sx={{ color: 'state.good', fontWeight: 600 }}>✓ Meets every rule of the checklist</Box>
      )}
      {sorted.map((b, i) => (
        <Box key={i} sx={{ mb: i < sorted.length - 1 ? 1 : 0 }}>
          <Box
            sx={{
              color: b.accepted ? 'text.secondary' : b.asked ? 'state.ask' : b.advice ? 'state.late' : 'state.bad',
              fontWeight: 600,
            }}
          >
            {wordOf(b)} {b.rule}: <LineText text={b.message} />
          </Box>
          <Box sx={{ color: 'text.secondary' }}>
            {b.accepted ? `${b.accepted}, until ${b.until ?? 'some day'}` : b.fix}
          </Box>
        </Box>
      ))}
    </Paper>
  );
}
