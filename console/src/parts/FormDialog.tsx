import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Dialog from '@mui/material/Dialog';
import DialogActions from '@mui/material/DialogActions';
import DialogContent from '@mui/material/DialogContent';
import DialogTitle from '@mui/material/DialogTitle';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import type { ReactNode } from 'react';

/** A dialog that does one thing and then asks anew for what it may have changed. */
export function FormDialog({
  title,
  act,
  close,
  changes,
  run,
  danger,
  wide,
  reading,
  children,
}: {
  title: string;
  act: string;
  close: () => void;
  changes: string;
  run: () => Promise<unknown>;
  danger?: boolean;
  wide?: boolean;
  /** There is nothing to do for who looks at it. */
  reading?: boolean;
  children: ReactNode;
}) {
  const queries = useQueryClient();
  const doing = useMutation({
    mutationFn: run,
    onSuccess: async () => {
      await queries.invalidateQueries({ queryKey: [changes] });
      close();
    },
  });
  return (
    // A click beside it loses nothing that was typed.
    <Dialog open onClose={(_, why) => why !== 'backdropClick' && close()} fullWidth maxWidth={wide ? 'sm' : 'xs'}>
      <Box
        component="form"
        onSubmit={(e) => {
          e.preventDefault();
          doing.mutate();
        }}
      >
        <DialogTitle>{title}</DialogTitle>
        <DialogContent sx={{ display: 'grid', gap: 1.5, pt: '8px !important' }}>
          {children}
          {doing.error && (
            <Alert severity="error" variant="outlined">
              {doing.error.message}
            </Alert>
          )}
        </DialogContent>
        <DialogActions>
          <Button onClick={close}>{reading ? 'Close' : 'Cancel'}</Button>
          {!reading && (
            <Button type="submit" variant="contained" color={danger ? 'error' : 'primary'} disabled={doing.isPending}>
              {act}
            </Button>
          )}
        </DialogActions>
      </Box>
    </Dialog>
  );
}
