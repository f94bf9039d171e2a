import Paper from '@mui/material/Paper';
import type { ReactNode } from 'react';

/** A panel whose content may be wider than a phone: it is moved sideways, by keys too. */
export function Scrolled({ below = false, children }: { below?: boolean; children: ReactNode }) {
  return (
    <Paper tabIndex={0} sx={{ overflowX: 'auto', mt: below ? 1.5 : 0 }}>
      {children}
    </Paper>
  );
}
