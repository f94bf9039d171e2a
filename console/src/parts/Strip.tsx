import Box from '@mui/material/Box';
import type { RunTick } from '../api/client';
import { count, span } from '../text';
import { stateColour } from './StateMark';

const wide = 7;
const high = 22;

/** How the last runs ended and how long they took, as a picture with words for those who do not see it. */
export function Strip({ runs }: { runs: RunTick[] }) {
  const sorted = runs.map((r) => r.took_ms).sort((a, b) => a - b);
  // One run that waited long is not to make all others look alike.
  const longest = Math.max(1, Math.min(sorted.at(-1) ?? 1, 3 * (sorted[Math.floor(sorted.length / 2)] ?? 1)));
  const failed = runs.filter((r) => r.state === 'failed' || r.state === 'timed-out').length;
  const passed = runs.filter((r) => r.state === 'passed').length;
  const text = `The last ${count(runs.length, 'run')}: ${passed} passed, ${failed} failed`;
  return (
    <Box
      component="svg"
      role="img"
      aria-label={text}
      viewBox={`0 0 ${30 * wide} ${high}`}
      sx={{ width: 30 * wide, height: high, maxWidth: '100%', display: 'block', flexShrink: 0 }}
    >
      {runs.map((r, i) => {
        const bad = r.state === 'failed' || r.state === 'timed-out';
        const h = bad ? high : Math.max(4, Math.round(Math.min(1, r.took_ms / longest) * high));
        const x = (30 - runs.length + i) * wide;
        return (
          <Box component="g" key={r.run} sx={{ color: stateColour(r.state) }}>
            <title>{`run ${r.run} ${r.state}${r.took_ms ? ` in ${span(r.took_ms)}` : ''}: ${r.subject ?? ''}`}</title>
            <rect x={x} y={0} width={wide} height={high} fill="transparent" />
            {bad ? (
              <path
                d={`M${x + 1} ${high - 5} l4 4 m0 -4 l-4 4`}
                stroke="currentColor"
                strokeWidth={1.6}
                fill="none"
                transform={`translate(0 ${-(high - 7) / 2})`}
              />
            ) : (
              <rect
                x={x + 1}
                y={high - h}
                width={wide - 2}
                height={h}
                fill={r.state === 'passed' ? 'currentColor' : 'none'}
                stroke="currentColor"
                strokeWidth={1}
                opacity={0.75}
              />
            )}
          </Box>
        );
      })}
    </Box>
  );
}
