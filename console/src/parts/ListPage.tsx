import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Typography from '@mui/material/Typography';
import type { ReactNode } from 'react';
import { More, type Newest } from '../paged';
import { List } from './List';
import { Scrolled } from './Scrolled';

/** A page that is one list, the newest first: its name, what narrows it, what is in it, and the way to more. */
export function ListPage<T>({
  title,
  label,
  narrow,
  of,
  error,
  none,
  heads,
  row,
}: {
  title: string;
  label: string;
  /** What narrows the list. */
  narrow: ReactNode;
  of: Newest<T>;
  /** Of what was done about something in it. */
  error?: Error | null;
  none: string;
  heads: string[];
  row: (item: T) => { key: string; cells: ReactNode[] };
}) {
  const wrong = of.error ?? error;
  return (
    <Box sx={{ p: 2, maxWidth: 1280, mx: 'auto' }}>
      <Box sx={{ display: 'flex', alignItems: 'center', gap: 1.5, mb: 1.5, flexWrap: 'wrap' }}>
        <Typography variant="h1" sx={{ flexGrow: 1 }}>
          {title}
        </Typography>
        {narrow}
      </Box>
      {wrong && (
        <Alert severity="error" variant="outlined" sx={{ mb: 1.5 }}>
          {wrong.message}
        </Alert>
      )}
      {of.ready && of.list.length === 0 && (
        <Alert severity="info" variant="outlined">
          {none}
        </Alert>
      )}
      {of.list.length > 0 && (
        <Scrolled>
          <List label={label} heads={heads} rows={of.list.map(row)} />
        </Scrolled>
      )}
      <More of={of} />
    </Box>
  );
}
