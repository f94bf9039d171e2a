import Box from '@mui/material/Box';
import ButtonBase from '@mui/material/ButtonBase';
import type { GraphJob } from '../api/client';
import { direct, layers } from '../graph';

const width = 150,
  height = 42,
  gapX = 30,
  gapY = 10;

/** The jobs of a pipeline, each right of those it comes after. */
export function Graph({ jobs, open }: { jobs: GraphJob[]; open: (job: GraphJob) => void }) {
  const places = layers(jobs);
  const edges = direct(jobs);
  const at = (name: string) => {
    const p = places.get(name);
    return p && { x: p.layer * (width + gapX), y: p.row * (height + gapY) };
  };
  const all = [...places.values()];
  const across = (Math.max(0, ...all.map((p) => p.layer)) + 1) * (width + gapX) - gapX;
  const down = (Math.max(0, ...all.map((p) => p.row)) + 1) * (height + gapY) - gapY;
  return (
    <Box component="section" aria-label="Jobs and their order" sx={{ overflow: 'auto', p: 1.5, minHeight: 0 }}>
      <Box sx={{ position: 'relative', width: across, height: down }}>
        <Box
          component="svg"
          aria-hidden
          width={across}
          height={down}
          sx={{ position: 'absolute', inset: 0, color: 'text.secondary', opacity: 0.7 }}
        >
          {jobs.flatMap((j) =>
            (edges.get(j.name) ?? []).map((before) => {
              const a = at(before),
                b = at(j.name);
              if (!a || !b) return null;
              const x1 = a.x + width,
                y1 = a.y + height / 2,
                x2 = b.x,
                y2 = b.y + height / 2,
                m = Math.max(12, (x2 - x1) / 2);
              return (
                <path
                  key={`${before} ${j.name}`}
                  d={`M${x1} ${y1}C${x1 + m} ${y1} ${x2 - m} ${y2} ${x2} ${y2}`}
                  fill="none"
                  stroke="currentColor"
                  strokeWidth="1.25"
                />
              );
            }),
          )}
        </Box>
        {jobs.map((j) => {
          const p = at(j.name);
          return (
            p && (
              <ButtonBase
                key={j.name}
                onClick={() => open(j)}
                title={j.when ? `only when ${j.when}` : j.name}
                style={{ left: p.x, top: p.y, width, height }}
                sx={{
                  position: 'absolute',
                  display: 'block',
                  textAlign: 'left',
                  px: 1,
                  py: '5px',
                  border: 1,
                  borderColor: 'divider',
                  borderRadius: 1,
                  bgcolor: 'background.default',
                  font: 'inherit',
                  '&:hover': { borderColor: 'primary.main' },
                  ...(j.when && { borderStyle: 'dashed' }),
                }}
              >
                <Box
                  sx={{
                    fontWeight: 650,
                    fontSize: 13,
                    overflow: 'hidden',
                    textOverflow: 'ellipsis',
                    whiteSpace: 'nowrap',
                  }}
                >
                  {j.name}
                </Box>
                <Box
                  sx={{
                    fontSize: 11,
                    color: 'text.secondary',
                    overflow: 'hidden',
                    textOverflow: 'ellipsis',
                    whiteSpace: 'nowrap',
                  }}
                >
                  {j.steps === 1 ? '1 step' : `${j.steps} steps`}
                  {j.when && `, when ${j.when}`}
                </Box>
              </ButtonBase>
            )
          );
        })}
      </Box>
    </Box>
  );
}
