import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Checkbox from '@mui/material/Checkbox';
import Dialog from '@mui/material/Dialog';
import DialogActions from '@mui/material/DialogActions';
import DialogContent from '@mui/material/DialogContent';
import DialogTitle from '@mui/material/DialogTitle';
import FormControlLabel from '@mui/material/FormControlLabel';
import MenuItem from '@mui/material/MenuItem';
import TextField from '@mui/material/TextField';
import { useMutation } from '@tanstack/react-query';
import { useState } from 'react';
import { useNavigate } from 'react-router';
import { api, take, type Input, type PipelineNote } from '../api/client';
import { complaint, initialText } from '../inputs';
import { useKeys } from '../keys';
import { useMe } from '../me';

function Field({ input, text, set }: { input: Input; text: string; set: (text: string) => void }) {
  const help = complaint(input, text) || input.about || ' ';
  if (input.kind === 'flag') {
    return (
      <FormControlLabel
        control={<Checkbox checked={text === 'true'} onChange={(e) => set(String(e.target.checked))} />}
        label={`${input.name}${input.about ? `: ${input.about}` : ''}`}
      />
    );
  }
  return (
    <TextField
      size="small"
      fullWidth
      select={input.kind === 'choice'}
      label={input.name}
      required={input.required ?? false}
      value={text}
      onChange={(e) => set(e.target.value)}
      error={complaint(input, text) !== ''}
      helperText={help}
      slotProps={input.kind === 'number' ? { htmlInput: { inputMode: 'decimal' } } : {}}
    >
      {input.kind === 'choice' &&
        input.choices?.map((c) => (
          <MenuItem key={c} value={c}>
            {c}
          </MenuItem>
        ))}
    </TextField>
  );
}

/** A button that starts a pipeline by hand, asking for its inputs. */
export function StartDialog({ project, pipelines, at }: { project: string; pipelines: PipelineNote[]; at: string }) {
  const go = useNavigate();
  const [open, setOpen] = useState(false);
  const [name, setName] = useState('');
  const [ref, setRef] = useState(at);
  const [given, give] = useState<Record<string, string>>({});
  const { may } = useMe();
  const mayStart = may('builder', project);
  useKeys({
    s: () => {
      if (mayStart) setOpen(true);
    },
  });
  const usable = pipelines.filter((p) => p.jobs.length > 0);
  const chosen = usable.find((p) => p.name === name) ?? usable[0];
  const text = (i: Input) => given[i.name] ?? initialText(i);
  const start = useMutation({
    mutationFn: async () =>
      take(
        await api.POST('/api/v1/projects/{project}/runs', {
          params: { path: { project } },
          body: {
            pipeline: chosen?.name ?? '',
            ref,
            inputs: Object.fromEntries(
              chosen?.inputs.filter((i) => text(i) !== '').map((i) => [i.name, text(i)]) ?? [],
            ),
          },
        }),
      ),
    onSuccess: (run) => void go(`/${encodeURIComponent(project)}/${run.number}`),
  });
  const wrong = !chosen || chosen.inputs.some((i) => complaint(i, text(i)) !== '');
  if (!mayStart) return null;
  return (
    <>
      <Button variant="contained" disabled={usable.length === 0} onClick={() => setOpen(true)}>
        Start …
      </Button>
      <Dialog open={open} onClose={() => setOpen(false)} fullWidth maxWidth="xs">
        <Box
          component="form"
          onSubmit={(e) => {
            e.preventDefault();
            start.mutate();
          }}
        >
          <DialogTitle>Start by hand</DialogTitle>
          <DialogContent sx={{ display: 'grid', gap: 1.5, pt: '8px !important' }}>
            <TextField
              select
              size="small"
              label="Pipeline"
              value={chosen?.name ?? ''}
              onChange={(e) => {
                setName(e.target.value);
                give({});
              }}
              helperText={chosen?.about || ' '}
            >
              {usable.map((p) => (
                <MenuItem key={p.name} value={p.name}>
                  {p.name}
                </MenuItem>
              ))}
            </TextField>
            <TextField
              size="small"
              label="Branch, tag or commit"
              value={ref}
              placeholder="the main branch"
              onChange={(e) => setRef(e.target.value)}
            />
            {chosen?.inputs.map((i) => (
              <Field key={i.name} input={i} text={text(i)} set={(t) => give((g) => ({ ...g, [i.name]: t }))} />
            ))}
            {start.error && (
              <Alert severity="error" variant="outlined">
                {start.error.message}
              </Alert>
            )}
          </DialogContent>
          <DialogActions>
            <Button onClick={() => setOpen(false)}>Cancel</Button>
            <Button type="submit" variant="contained" disabled={wrong || start.isPending}>
              Start
            </Button>
          </DialogActions>
        </Box>
      </Dialog>
    </>
  );
}
