import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Paper from '@mui/material/Paper';
import TextField from '@mui/material/TextField';
import Typography from '@mui/material/Typography';
import { useQuery } from '@tanstack/react-query';
import { useState, type FormEvent } from 'react';
import { api, take } from '../api/client';

/** What the service says, in a word of the address, of a sign-in at the issuer that came to nothing. */
const troubles: Record<string, string> = {
  away: 'The issuer cannot be reached just now. Sign in by password, or try again later.',
  refused: 'The issuer\u2019s answer was not accepted. Begin again.',
  disabled: 'You may not sign in here. Ask an administrator.',
};

export function SignIn({ problem, done }: { problem?: string | undefined; done: () => void }) {
  const [said, setSaid] = useState(
    problem ?? troubles[new URLSearchParams(window.location.search).get('issuer') ?? ''] ?? '',
  );
  const ways = useQuery({ queryKey: ['ways'], queryFn: async () => take(await api.GET('/api/v1/sign-in')) });
  const [busy, setBusy] = useState(false);
  const submit = async (e: FormEvent<HTMLFormElement>) => {
    e.preventDefault();
    const form = new FormData(e.currentTarget);
    setBusy(true);
    try {
      take(
        await api.POST('/api/v1/session', {
          body: { name: String(form.get('name')), password: String(form.get('password')) },
        }),
      );
      done();
    } catch (error) {
      setSaid(error instanceof Error ? error.message : String(error));
      setBusy(false);
    }
  };
  return (
    <Box component="main" sx={{ minHeight: '100dvh', display: 'grid', placeItems: 'center', p: 2 }}>
      <Paper
        component="form"
        onSubmit={(e) => void submit(e)}
        sx={{ p: 4, width: 380, display: 'flex', flexDirection: 'column', gap: 2 }}
      >
        <Typography variant="h1" color="primary">
          Gentle Piston
        </Typography>
        <Typography color="text.secondary">
          Sign in. The first administrator is <b>admin</b>; the password was printed when the service was first started.
        </Typography>
        {said && (
          <Alert severity="error" variant="outlined">
            {said}
          </Alert>
        )}
        <TextField name="name" label="Name" defaultValue="admin" autoComplete="username" size="small" required />
        <TextField
          name="password"
          label="Password"
          type="password"
          autoComplete="current-password"
          size="small"
          required
          autoFocus
        />
        <Button type="submit" variant="contained" disabled={busy}>
          Sign in
        </Button>
        {ways.data?.issuer && (
          <Button href="/api/v1/session/issuer" variant="outlined">
            Sign in at {ways.data.issuer}
          </Button>
        )}
      </Paper>
    </Box>
  );
}
