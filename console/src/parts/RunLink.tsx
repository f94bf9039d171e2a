import Box from '@mui/material/Box';
import { Link } from 'react-router';

/** Leads to a run from a row that itself leads somewhere. */
export function RunLink({ to, run }: { to: string; run: number }) {
  return (
    <Box
      component={Link}
      to={to}
      onClick={(e) => e.stopPropagation()}
      sx={{ color: 'primary.main', whiteSpace: 'nowrap' }}
    >
      run {run}
    </Box>
  );
}
