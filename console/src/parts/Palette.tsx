import Autocomplete from '@mui/material/Autocomplete';
import Box from '@mui/material/Box';
import Dialog from '@mui/material/Dialog';
import TextField from '@mui/material/TextField';
import { useQuery } from '@tanstack/react-query';
import { useNavigate } from 'react-router';
import { api, take } from '../api/client';
import { useMe } from '../me';
import { found, places } from '../rooms';

/** Goes anywhere by a few letters: rooms of the project, other projects, runs by their number. */
export function Palette({ open, close, project }: { open: boolean; close: () => void; project: string }) {
  const go = useNavigate();
  const { administrator, may } = useMe();
  const projects = useQuery({
    queryKey: ['projects', 'names'],
    enabled: open,
    queryFn: async () => take(await api.GET('/api/v1/projects', { params: { query: { limit: 200 } } })),
  });
  const list = places(project, projects.data?.map((p) => p.name) ?? [], administrator, may);
  return (
    <Dialog
      open={open}
      onClose={close}
      aria-label="Go to"
      fullWidth
      maxWidth="xs"
      sx={{ '& .MuiDialog-container': { alignItems: 'flex-start' } }}
    >
      <Autocomplete
        open
        autoHighlight
        options={list}
        groupBy={(p) => p.group}
        getOptionLabel={(p) => p.label}
        getOptionKey={(p) => p.to}
        filterOptions={(all, { inputValue }) => found(all, inputValue, project)}
        noOptionsText="Nothing of that name."
        slotProps={{ listbox: { sx: { maxHeight: '50vh' } }, popper: { disablePortal: true } }}
        onChange={(_, to) => {
          close();
          if (to) void go(to.to);
        }}
        renderInput={(props) => (
          <TextField {...props} autoFocus label="Go to a room, a project, or a run by its number" sx={{ m: 0 }} />
        )}
        sx={{ p: 1.5 }}
      />
      <Box sx={{ minHeight: '52vh' }} aria-hidden />
    </Dialog>
  );
}
