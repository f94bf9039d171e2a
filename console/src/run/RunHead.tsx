import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import type { RunDetail } from '../api/client';
import { built, RunOf } from '../parts/RunOf';
import { StateMark } from '../parts/StateMark';
import { ago, span } from '../text';
import type { useActs } from './useActs';
import { why } from './words';

function Complaint({ of }: { of: Error | null }) {
  return of ? (
    <Box role="alert" sx={{ color: 'error.main' }}>
      {of.message}
    </Box>
  ) : null;
}

/** What run it is, what started it, how long it took, and what may be done with it. */
export function RunHead({ run, now, acts }: { run: RunDetail; now: number; acts: ReturnType<typeof useActs> }) {
  const { stop, again } = acts;
  const end = run.finished ? Date.parse(run.finished) : now;
  return (
    <Box
      sx={{
        display: 'flex',
        gap: 2,
        alignItems: 'baseline',
        px: 2,
        py: 1,
        borderBottom: 1,
        borderColor: 'divider',
        bgcolor: 'background.paper',
        flexWrap: 'wrap',
        fontSize: 13,
      }}
    >
      <StateMark state={run.state} size={16} />
      <Box component="h1" sx={{ m: 0, fontSize: 16, fontWeight: 650 }}>
        {run.subject || `run ${run.number}`}
      </Box>
      <span>
        {run.pipeline} of <RunOf run={run} />
      </span>
      {built(run) && <span>build {built(run)}</span>}
      <Box component="span" sx={{ color: 'text.secondary' }}>
        {why(run)}, {ago(run.queued, now)}, {span(Math.max(0, end - Date.parse(run.queued)))}
      </Box>
      <Box sx={{ flexGrow: 1 }} />
      <Complaint of={again.error} />
      {acts.mayStart && (
        <Box sx={{ display: 'flex', gap: 1, alignItems: 'baseline', whiteSpace: 'nowrap' }}>
          Again:
          {acts.mayMend && (
            <Button
              size="small"
              variant="outlined"
              disabled={again.isPending}
              aria-label="Start again what failed"
              onClick={() => again.mutate(true)}
            >
              failed
            </Button>
          )}
          <Button
            size="small"
            variant="outlined"
            disabled={again.isPending}
            aria-label="Start all of it again"
            onClick={() => again.mutate(false)}
          >
            all
          </Button>
        </Box>
      )}
      <Complaint of={stop.error} />
      {acts.mayStop && (
        <Button
          size="small"
          variant="outlined"
          color="error"
          disabled={stop.isPending || stop.isSuccess}
          onClick={() => stop.mutate()}
        >
          {stop.isSuccess ? 'Stopping …' : 'Stop'}
        </Button>
      )}
    </Box>
  );
}
