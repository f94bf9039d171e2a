import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Paper from '@mui/material/Paper';
import TextField from '@mui/material/TextField';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useRef, useState } from 'react';
import { api, take, type Gate } from '../api/client';
import { gateWord, whoReads } from '../gates';
import { useKeys } from '../keys';
import { ago } from '../text';

/** What people have said at a gate, and why. */
export function Answers({ gate, now }: { gate: Gate; now: number }) {
  if (gate.answers.length === 0) return null;
  return (
    <Box component="ul" aria-label="Answers" sx={{ m: 0, mt: 0.5, pl: 0, listStyle: 'none' }}>
      {gate.answers.map((a) => (
        <Box component="li" key={a.by} sx={{ overflowWrap: 'anywhere' }}>
          <Box component="b" sx={{ color: a.yes ? 'state.good' : 'state.bad' }}>
            {a.yes ? '✓ yes' : '✗ no'}
          </Box>{' '}
          {a.by}
          <Box component="span" sx={{ color: 'text.secondary' }}>
            {', '}
            <time dateTime={a.at}>{ago(a.at, now)}</time>
          </Box>
          {a.comment && ` — ${a.comment}`}
        </Box>
      ))}
    </Box>
  );
}

/** What people are asked before a run goes on, and the place to say it. */
export function GatePanel({ gate, now }: { gate: Gate; now: number }) {
  const [comment, setComment] = useState('');
  const field = useRef<HTMLInputElement>(null);
  const queries = useQueryClient();
  const say = useMutation({
    mutationFn: async (yes: boolean) =>
      take(
        await api.POST('/api/v1/projects/{project}/gates/{id}/answer', {
          params: { path: { project: gate.project, id: gate.id } },
          body: { yes, comment },
        }),
      ),
    onSuccess: () => setComment(''),
    onSettled: () => {
      void queries.invalidateQueries({ queryKey: ['run', gate.project, gate.run] });
      void queries.invalidateQueries({ queryKey: ['gates'] });
    },
  });
  useKeys({ a: () => field.current?.focus() });
  const said = gate.answers.some((a) => a.yes);
  return (
    <Paper
      component="section"
      aria-label={`Question of ${gate.job}`}
      sx={{ borderColor: 'state.ask', borderLeftWidth: 4, p: 1.5, m: 1.5, mb: 0, flexShrink: 0 }}
    >
      <Box sx={{ fontWeight: 650, overflowWrap: 'anywhere' }}>{gate.question}</Box>
      <Box sx={{ color: 'text.secondary' }}>
        {gate.job} asks {whoReads(gate.who)}
        {gate.not_starter && ', but not who has started the run'}. {gateWord(gate, now)}.
      </Box>
      <Answers gate={gate} now={now} />
      {gate.may_not ? (
        <Box sx={{ mt: 1 }}>{gate.may_not}.</Box>
      ) : (
        <Box sx={{ display: 'flex', gap: 1, mt: 1, flexWrap: 'wrap', alignItems: 'center' }}>
          <TextField
            size="small"
            label="Comment"
            value={comment}
            onChange={(e) => setComment(e.target.value)}
            sx={{ flexGrow: 1, minWidth: 220, maxWidth: 560 }}
            slotProps={{ htmlInput: { ref: field, maxLength: 2000 } }}
          />
          <Button variant="contained" disabled={say.isPending} onClick={() => say.mutate(true)}>
            Yes{said ? ', too' : ''}
          </Button>
          <Button variant="outlined" color="error" disabled={say.isPending} onClick={() => say.mutate(false)}>
            No, end it
          </Button>
          {say.error && (
            <Box role="alert" sx={{ color: 'error.main', flexBasis: '100%' }}>
              {say.error.message}
            </Box>
          )}
        </Box>
      )}
    </Paper>
  );
}
