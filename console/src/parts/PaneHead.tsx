import Box from '@mui/material/Box';
import Typography from '@mui/material/Typography';
import type { ReactNode } from 'react';

/** The head of a pane: what it shows, and what may be done with that. */
export function PaneHead({ title, children }: { title: ReactNode; children: ReactNode }) {
  return (
    <Box
      sx={{
        display: 'flex',
        alignItems: 'center',
        gap: 1,
        px: 1.5,
        height: 40,
        flexShrink: 0,
        borderBottom: 1,
        borderColor: 'divider',
      }}
    >
      <Typography variant="h2" sx={{ flexGrow: 1 }}>
        {title}
      </Typography>
      {children}
    </Box>
  );
}
