import Box from '@mui/material/Box';
import type { Package } from '../api/client';

/** What the checklist says of one, in short: always a word, never colour alone. */
export function Says({ of }: { of: Package }) {
  if (of.failed > 0) return <Box sx={{ color: 'state.bad', fontWeight: 600 }}>✗ {of.failed} against</Box>;
  if (of.asked) return <Box sx={{ color: 'state.ask' }}>? {of.asked} for people to judge</Box>;
  if (of.findings > 0) return <Box sx={{ color: 'state.late' }}>○ {of.findings} accepted</Box>;
  return <Box sx={{ color: 'state.good' }}>✓ meets all</Box>;
}
