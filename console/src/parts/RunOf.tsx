import Box from '@mui/material/Box';
import type { Run } from '../api/client';
import { mono } from '../theme';

/** What a run was of: branch or tag, and the commit. */
export function RunOf({ run }: { run: Run }) {
  return (
    <Box component="span" sx={{ whiteSpace: 'nowrap' }}>
      {run.tag ? `tag ${run.tag}` : run.proposal ? `proposal ${run.proposal} into ${run.target}` : run.branch}
      {run.trigger === 'bisection' && <>, tried for run {run.caused_by}</>}{' '}
      <Box component="span" sx={{ fontFamily: mono, fontSize: 12, color: 'text.secondary' }}>
        {run.commit.slice(0, 7)}
      </Box>
    </Box>
  );
}

export const built = (run: Run) => (run.build_number ? `${run.version_name ?? ''} (${run.build_number})`.trim() : '');
