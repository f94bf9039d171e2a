import Box from '@mui/material/Box';
import type { TestCase } from '../api/client';
import { StateMark, stateColour } from './StateMark';

/** How a test case ended. */
export function CaseResult({ result }: { result: TestCase['result'] }) {
  if (result !== 'both') return <StateMark state={result} />;
  return (
    <Box component="span" sx={{ color: stateColour('timed-out'), fontWeight: 600 }}>
      ≈ passed and failed
    </Box>
  );
}
