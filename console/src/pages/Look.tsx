import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Paper from '@mui/material/Paper';
import Typography from '@mui/material/Typography';
import type { Terminal } from '@xterm/xterm';
import { useCallback, useState } from 'react';
import { Link, useParams } from 'react-router';
import { Screen } from '../parts/Screen';
import { beat, heard, sized, taken, typed } from '../talk';

const beatEvery = 10_000;

/** What a shell's end is told by. */
const endWord = (why: string, code: number | undefined) =>
  why || (code === undefined ? 'ended' : `ended with exit code ${code}`);

/** A shell in a workspace that stays, in the folder and environment of the step that failed. */
export default function Look() {
  const { project = '', number = '', job = '' } = useParams();
  const [state, setState] = useState('connecting');
  const [over, setOver] = useState<string>();
  const [tries, setTries] = useState(0);
  const begin = useCallback(
    (t: Terminal) => {
      void tries; // another try is another connection
      const at = `/api/v1/projects/${encodeURIComponent(project)}/runs/${number}/jobs/${encodeURIComponent(job)}/shell`;
      const query = `kind=shell&terminal=true&cols=${t.cols}&rows=${t.rows}`;
      const socket = new WebSocket(`${at.replace(/^/, window.location.origin.replace(/^http/, 'ws'))}?${query}`);
      socket.binaryType = 'arraybuffer';
      const send = (m: Uint8Array<ArrayBuffer>) => {
        if (socket.readyState === WebSocket.OPEN) socket.send(m);
      };
      const tick = setInterval(() => send(beat()), beatEvery);
      let ended = false;
      const end = (word: string) => {
        if (ended) return;
        ended = true;
        setOver(word);
      };
      socket.onmessage = (e: MessageEvent<ArrayBuffer>) => {
        const m = heard(e.data);
        if (m.kind === 'data') t.write(m.bytes, () => send(taken(m.bytes.length)));
        if (m.kind === 'word') setState(m.text);
        if (m.kind === 'over') end(endWord(m.why, m.code));
      };
      socket.onclose = () =>
        end('the connection is gone: its workspace may stay no longer, or you may not look around in it');
      const keys = t.onData((what) => typed(what).forEach(send));
      const size = t.onResize(({ cols, rows }) => send(sized(cols, rows)));
      t.focus();
      return () => {
        ended = true;
        clearInterval(tick);
        keys.dispose();
        size.dispose();
        socket.close();
      };
    },
    [project, number, job, tries],
  );
  return (
    <Box sx={{ height: '100%', minHeight: 0, display: 'flex', flexDirection: 'column', p: 1.5, gap: 1 }}>
      <Box sx={{ display: 'flex', alignItems: 'baseline', flexWrap: 'wrap', columnGap: 2 }}>
        <Typography variant="h1" sx={{ overflowWrap: 'anywhere' }}>
          {job}, of{' '}
          <Box
            component={Link}
            to={`/${encodeURIComponent(project)}/${number}?job=${encodeURIComponent(job)}`}
            sx={{ color: 'primary.main' }}
          >
            run {number}
          </Box>
        </Typography>
        <Box sx={{ color: over === undefined ? 'text.secondary' : 'text.primary' }} role="status">
          {over === undefined
            ? state || 'open; what it shows is recorded; Shift Esc leaves the terminal'
            : `The shell has ${over.startsWith('ended') ? over : `ended: ${over}`}.`}
        </Box>
        {over !== undefined && (
          <Button
            size="small"
            variant="outlined"
            sx={{ my: -0.5 }}
            onClick={() => {
              setOver(undefined);
              setState('connecting');
              setTries(tries + 1);
            }}
          >
            Open another
          </Button>
        )}
      </Box>
      <Paper sx={{ flexGrow: 1, minHeight: 120, p: 1, overflow: 'hidden' }}>
        <Screen label={`Terminal in ${job}`} fits begin={begin} />
      </Paper>
    </Box>
  );
}
