import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Dialog from '@mui/material/Dialog';
import DialogActions from '@mui/material/DialogActions';
import DialogContent from '@mui/material/DialogContent';
import DialogTitle from '@mui/material/DialogTitle';
import Step from '@mui/material/Step';
import StepLabel from '@mui/material/StepLabel';
import Stepper from '@mui/material/Stepper';
import TextField from '@mui/material/TextField';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { useNavigate } from 'react-router';
import { api, take } from '../api/client';
import { mono } from '../theme';

const first = `about = "Every push: build and test"

[trigger.push]
branches = ["**"]

[[job.build.step]]
name = "build"
script = "make"

[[job.build.step]]
name = "tests"
script = "make test"
test_reports = ["out/**/*.xml"]
`;

function Text({ children, label }: { children: string; label: string }) {
  return (
    <Box
      component="pre"
      tabIndex={0}
      aria-label={label}
      sx={{ fontFamily: mono, fontSize: 12, p: 1, m: 0, overflow: 'auto', bgcolor: 'var(--mui-palette-soft)' }}
    >
      {children}
    </Box>
  );
}

/** Registers a project step by step: its repository, how pushes get here, its first pipeline. */
export function AddProject() {
  const queries = useQueryClient();
  const go = useNavigate();
  const [open, setOpen] = useState(false);
  const [at, setAt] = useState(0);
  const [name, setName] = useState('');
  const [remote, setRemote] = useState('');
  const add = useMutation({
    mutationFn: async () => take(await api.POST('/api/v1/projects', { body: { name, remote } })),
    onSuccess: () => {
      setAt(1);
      void queries.invalidateQueries({ queryKey: ['overview'] });
    },
  });
  const close = () => {
    setOpen(false);
    if (at > 0) void go(`/${encodeURIComponent(name)}`);
    setAt(0);
  };
  const steps = ['Repository', 'Pushes', 'First pipeline'];
  return (
    <>
      <Button variant="outlined" onClick={() => setOpen(true)}>
        Add a project
      </Button>
      <Dialog open={open} onClose={close} fullWidth maxWidth="sm">
        <DialogTitle>Add a project</DialogTitle>
        <DialogContent>
          <Stepper activeStep={at} sx={{ mb: 2 }}>
            {steps.map((s) => (
              <Step key={s}>
                <StepLabel>{s}</StepLabel>
              </Step>
            ))}
          </Stepper>
          {at === 0 && (
            <Box
              component="form"
              id="add-project"
              onSubmit={(e) => {
                e.preventDefault();
                add.mutate();
              }}
              sx={{ display: 'grid', gap: 2, pt: 1 }}
            >
              <TextField
                label="Name"
                required
                autoFocus
                value={name}
                onChange={(e) => setName(e.target.value.trim())}
                helperText="Letters, digits, - and _; it stands in addresses and commands."
              />
              <TextField
                label="Repository"
                required
                value={remote}
                onChange={(e) => setRemote(e.target.value.trim())}
                helperText="A folder on the service's machine, or an https or ssh address."
              />
              {add.error && (
                <Alert severity="error" variant="outlined">
                  {add.error.message}
                </Alert>
              )}
            </Box>
          )}
          {at === 1 && (
            <Box sx={{ display: 'grid', gap: 1.5 }}>
              <span>
                The repository reports its pushes by a hook, which signs them with the project&apos;s key. Where the
                repository lies:
              </span>
              <Text label="Command that installs the hook">{`piston project hook ${name}`}</Text>
              <span>Without it, a pipeline starts by hand or by its schedule.</span>
            </Box>
          )}
          {at === 2 && (
            <Box sx={{ display: 'grid', gap: 1.5 }}>
              <span>
                Pipelines are files of the repository. Put this into <code>piston/build.toml</code>, and see what{' '}
                <code>piston check</code> and <code>piston try</code> say before you push:
              </span>
              <Text label="A first pipeline">{first}</Text>
            </Box>
          )}
        </DialogContent>
        <DialogActions>
          <Button onClick={close}>{at === 2 ? 'To the project' : 'Close'}</Button>
          {at === 0 && (
            <Button variant="contained" type="submit" form="add-project" disabled={!name || !remote || add.isPending}>
              Add
            </Button>
          )}
          {at === 1 && (
            <Button variant="contained" onClick={() => setAt(2)}>
              Next
            </Button>
          )}
        </DialogActions>
      </Dialog>
    </>
  );
}
