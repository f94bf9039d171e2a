import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Checkbox from '@mui/material/Checkbox';
import FormControlLabel from '@mui/material/FormControlLabel';
import Paper from '@mui/material/Paper';
import TextField from '@mui/material/TextField';
import Typography from '@mui/material/Typography';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { api, done, take, type Wishes as All } from '../api/client';

const mutationKey = ['wishes'];

/** What I am told of by mail: of all projects, or otherwise of one. */
export function Wishes() {
  const queries = useQueryClient();
  const [other, setOther] = useState('');
  const wishes = useQuery({
    queryKey: ['wishes'],
    queryFn: async () => take(await api.GET('/api/v1/wishes')),
  });
  // What is read while more is on its way would show what was before.
  const onSettled = () => {
    if (queries.isMutating({ mutationKey }) === 1) void queries.invalidateQueries({ queryKey: ['wishes'] });
  };
  const choose = useMutation({
    mutationKey,
    scope: { id: 'wishes' }, // one after the other, as they were chosen
    mutationFn: async (w: { project: string; kinds: string[] }) =>
      take(await api.PUT('/api/v1/wishes', { body: { kinds: w.kinds, ...(w.project && { project: w.project }) } })),
    onSuccess: () => setOther(''),
    onSettled,
  });
  // Shown at once: whoever chooses two adds the second to the first.
  const turn = (project: string, kind: string, on: boolean) => {
    const now = queries.getQueryData<All>(['wishes']);
    if (!now) return;
    let kinds: string[] = [];
    const list = now.wishes.map((w) => {
      if ((w.project ?? '') !== project) return w;
      kinds = w.kinds.filter((k) => k !== kind).concat(on ? [kind] : []);
      return { ...w, kinds };
    });
    queries.setQueryData<All>(['wishes'], { ...now, wishes: list });
    choose.mutate({ project, kinds });
  };
  const drop = useMutation({
    mutationKey,
    mutationFn: async (project: string) => done(await api.DELETE('/api/v1/wishes', { params: { query: { project } } })),
    onSettled,
  });
  const error = wishes.error ?? choose.error ?? drop.error;
  const of = wishes.data;
  const all = of?.wishes.find((w) => !w.project);
  return (
    <Paper component="section" aria-label="What you are told of" sx={{ p: 1.5, mb: 2.5 }}>
      <Typography variant="h2">Mail of what happens</Typography>
      {error && (
        <Alert severity="error" variant="outlined">
          {error.message}
        </Alert>
      )}
      {of?.wishes.map((w) => {
        const project = w.project ?? '';
        return (
          <Box
            key={project}
            role="group"
            aria-label={project || 'All projects'}
            sx={{ display: 'flex', flexWrap: 'wrap', alignItems: 'center', columnGap: 1.5 }}
          >
            <Box sx={{ minWidth: 120 }}>
              <b>{project || 'All projects'}</b>
              {w.unasked && <Box sx={{ fontSize: 12, color: 'text.secondary' }}>as nobody chose</Box>}
            </Box>
            {of.choices.map((c) => (
              <FormControlLabel
                key={c.kind}
                control={
                  <Checkbox
                    size="small"
                    checked={w.kinds.includes(c.kind)}
                    onChange={(e) => turn(project, c.kind, e.target.checked)}
                  />
                }
                label={c.means}
              />
            ))}
            {!w.unasked && (
              <Button size="small" onClick={() => drop.mutate(project)}>
                Take back
              </Button>
            )}
          </Box>
        );
      })}
      <Box
        component="form"
        sx={{ display: 'flex', gap: 1, mt: 1, alignItems: 'center' }}
        onSubmit={(e) => {
          e.preventDefault();
          choose.mutate({ project: other.trim(), kinds: all?.kinds ?? [] });
        }}
      >
        <TextField
          size="small"
          label="Otherwise of the project"
          value={other}
          onChange={(e) => setOther(e.target.value)}
          slotProps={{ htmlInput: { maxLength: 63 } }}
        />
        <Button type="submit" size="small" disabled={!other.trim()}>
          Choose
        </Button>
      </Box>
    </Paper>
  );
}
