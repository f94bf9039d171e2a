import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import TextField from '@mui/material/TextField';
import Typography from '@mui/material/Typography';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'react-router';
import { api, take, type Cause } from '../api/client';
import { List } from '../parts/List';
import { Scrolled } from '../parts/Scrolled';
import { count } from '../text';

/** The causes of failures that the service knows. */
export const useCauses = () =>
  useQuery({ queryKey: ['causes'], staleTime: Infinity, queryFn: async () => take(await api.GET('/api/v1/causes')) });

/** How many are shown at first; a word finds any. */
const first = 40;

const says = (c: Cause, text: string) =>
  [c.name, c.title, c.means, c.do, ...(c.examples ?? [])].some((t) => t.toLowerCase().includes(text.toLowerCase()));

/** The catalogue: why things fail in this trade, and what to do. */
export default function Causes() {
  const { data, error } = useCauses();
  const [text, setText] = useState('');
  const [all, setAll] = useState(false);
  const list = (data ?? []).filter((c) => says(c, text));
  const shown = all ? list : list.slice(0, first);
  return (
    <Box sx={{ p: 2, maxWidth: 1280, mx: 'auto' }}>
      <Box sx={{ display: 'flex', alignItems: 'center', gap: 1.5, mb: 1.5, flexWrap: 'wrap' }}>
        <Typography variant="h1" sx={{ flexGrow: 1 }}>
          Causes
          <Box component="span" sx={{ fontSize: 13, fontWeight: 400, color: 'text.secondary', ml: 1.5 }}>
            {data && `${count(list.length, 'cause')} of failures; a team adds its own in piston/causes.toml`}
          </Box>
        </Typography>
        <TextField
          size="small"
          label="With the words"
          value={text}
          onChange={(e) => setText(e.target.value)}
          slotProps={{ htmlInput: { maxLength: 200 } }}
        />
      </Box>
      {error && (
        <Alert severity="error" variant="outlined">
          {error.message}
        </Alert>
      )}
      {data && list.length === 0 && (
        <Alert severity="info" variant="outlined">
          No cause with that in it.
        </Alert>
      )}
      {list.length > 0 && (
        <Scrolled>
          <List
            label="Causes"
            heads={['Cause', 'What it means', 'What to do']}
            rows={shown.map((c) => ({
              key: c.name,
              cells: [
                <Box
                  key="t"
                  component={Link}
                  to={`/-/causes/${c.name}`}
                  sx={{ color: 'primary.main', fontWeight: 600 }}
                >
                  {c.title}
                </Box>,
                c.means,
                c.do,
              ],
            }))}
          />
        </Scrolled>
      )}
      {shown.length < list.length && (
        <Button sx={{ mt: 1 }} onClick={() => setAll(true)}>
          The other {list.length - shown.length}, too
        </Button>
      )}
    </Box>
  );
}
