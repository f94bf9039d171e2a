import Box from '@mui/material/Box';
import { pieces } from '../ansi';

/** The eight colours of ECMA-48 as the theme has them; bright ones are the same, bold. */
const colours = [
  'text.secondary',
  'var(--mui-palette-state-bad)',
  'var(--mui-palette-state-good)',
  'var(--mui-palette-state-late)',
  'var(--mui-palette-state-busy)',
  'var(--mui-palette-state-ask)',
  'var(--mui-palette-primary-main)',
  'text.primary',
];

/** The text of a log line with its ANSI colours. It is text and never markup. */
export function LineText({ text }: { text: string }) {
  const list = pieces(text);
  const only = list[0];
  if (list.length === 1 && only && only.colour === undefined && !only.bold) return only.text;
  return list.map((p, i) => (
    <Box
      key={i}
      component="span"
      sx={{
        ...(p.colour !== undefined && { color: colours[p.colour % 8] }),
        ...((p.bold || (p.colour ?? 0) > 7) && { fontWeight: 700 }),
        ...(p.faint && { opacity: 0.7 }),
      }}
    >
      {p.text}
    </Box>
  ));
}
