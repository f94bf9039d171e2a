import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import { lazy, Suspense } from 'react';
import { plainEnough } from '../run/bounds';
import type { Note } from '../run/words';
import { PaneHead } from './PaneHead';

const Markdown = lazy(() => import('./Markdown'));

const AsItStands = ({ text }: { text: string }) => (
  <Box sx={{ whiteSpace: 'pre-wrap', overflowWrap: 'anywhere', fontSize: 13 }}>{text}</Box>
);

/** What steps have put on the run's page, in the place of the log; close leads back to that. */
export function Notes({ notes, close }: { notes: Note[]; close: () => void }) {
  return (
    <Box component="section" aria-label="Notes" sx={{ height: '100%', display: 'flex', flexDirection: 'column' }}>
      <PaneHead title="Notes">
        <Button size="small" onClick={close}>
          Log
        </Button>
      </PaneHead>
      <Box sx={{ overflow: 'auto', px: 1.5, py: 1 }} tabIndex={0} aria-label="All notes" role="group">
        {notes.map((n) => (
          <Box key={n.key} component="article" aria-label={`${n.name} of ${n.job}`} sx={{ mb: 2 }}>
            <Box component="h3" sx={{ m: 0, fontSize: 13, fontWeight: 650 }}>
              {n.name}
              <Box component="span" sx={{ color: 'text.secondary', fontWeight: 400 }}>
                {' '}
                of {n.job}
              </Box>
            </Box>
            {plainEnough(n.text) ? (
              <Suspense fallback={<AsItStands text={n.text} />}>
                <Markdown text={n.text} />
              </Suspense>
            ) : (
              <AsItStands text={n.text} />
            )}
          </Box>
        ))}
      </Box>
    </Box>
  );
}
