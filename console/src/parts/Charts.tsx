import Box from '@mui/material/Box';
import { useColorScheme, useTheme } from '@mui/material/styles';
import { BarChart } from '@mui/x-charts/BarChart';
import { ChartsReferenceLine } from '@mui/x-charts/ChartsReferenceLine';
import { LineChart } from '@mui/x-charts/LineChart';
import type { ReactNode } from 'react';
import { span } from '../text';
import { series } from '../theme';
import type { Part } from '../times';

/** The colours of the scheme in force. */
function useColours(): readonly string[] {
  const { mode, systemMode } = useColorScheme();
  return series[(mode === 'system' ? systemMode : mode) === 'dark' ? 'dark' : 'light'];
}

/** A picture, said in words for those who do not see it. */
function Picture({ label, children }: { label: string; children: ReactNode }) {
  return (
    <Box role="img" aria-label={label} sx={{ '& text': { fontSize: '11px !important' } }}>
      {children}
    </Box>
  );
}

/** Opens the run at whose place one has clicked. */
const opening = (runs: number[], open: (run: number) => void) => (_: unknown, at: { dataIndex: number } | null) => {
  const run = at && runs[at.dataIndex];
  if (run) open(run);
};

const ms = (value: number | null) => (value === null ? '' : span(value));
const margin = { left: 0, right: 8, top: 18, bottom: 0 };

/** Runs side by side, each a bar of parts that stand on each other. A click opens the run. */
export function Stacked({
  label,
  runs,
  parts,
  marks = [],
  height,
  open,
}: {
  label: string;
  runs: number[];
  parts: Part[];
  marks?: { run: number; text: string }[];
  height: number;
  open: (run: number) => void;
}) {
  const colours = useColours();
  return (
    <Picture label={label}>
      <BarChart
        skipAnimation
        height={height}
        margin={margin}
        hideLegend={parts.length < 2}
        xAxis={[{ data: runs, scaleType: 'band', categoryGapRatio: 0.15, height: 24, tickLabelInterval: 'auto' }]}
        yAxis={[{ valueFormatter: (v: number) => span(v), width: 56 }]}
        series={parts.map((p, i) => ({
          data: p.data,
          label: p.label,
          stack: 'all',
          color: colours[i % colours.length] ?? 'currentColor',
          valueFormatter: ms,
        }))}
        onAxisClick={opening(runs, open)}
        slotProps={{ legend: { sx: { fontSize: 12, gap: 1.5 } } }}
      >
        {marks.map((m) => (
          <ChartsReferenceLine key={m.run} x={m.run} label={m.text} labelStyle={{ fontSize: 10 }} />
        ))}
      </BarChart>
    </Picture>
  );
}

/** What something took, run by run, with where that changed. */
export function Course({
  label,
  runs,
  values,
  changes,
  height,
  open,
}: {
  label: string;
  runs: number[];
  values: (number | null)[];
  changes: number[];
  height: number;
  open: (run: number) => void;
}) {
  const colours = useColours();
  const theme = useTheme();
  return (
    <Picture label={label}>
      <LineChart
        skipAnimation
        hideLegend
        height={height}
        margin={margin}
        xAxis={[{ data: runs, scaleType: 'point', height: 24 }]}
        yAxis={[{ min: 0, valueFormatter: (v: number) => span(v), width: 56 }]}
        series={[
          {
            data: values,
            label: 'took',
            color: colours[0] ?? 'currentColor',
            curve: 'linear',
            valueFormatter: ms,
            showMark: runs.length <= 40,
            connectNulls: true,
          },
        ]}
        onAxisClick={opening(runs, open)}
      >
        {changes.map((c) => (
          <ChartsReferenceLine
            key={c}
            x={c}
            label={`run ${c}`}
            lineStyle={{ stroke: theme.vars?.palette.state.late ?? 'currentColor', strokeDasharray: '4 3' }}
            labelStyle={{ fontSize: 10 }}
          />
        ))}
      </LineChart>
    </Picture>
  );
}

/** How often something took how long. */
export function Histogram({
  label,
  bars,
  height,
}: {
  label: string;
  bars: { from_ms: number; n: number }[];
  height: number;
}) {
  const colours = useColours();
  return (
    <Picture label={label}>
      <BarChart
        skipAnimation
        hideLegend
        height={height}
        margin={margin}
        xAxis={[{ data: bars.map((b) => span(b.from_ms)), scaleType: 'band', categoryGapRatio: 0.1, height: 24 }]}
        yAxis={[{ width: 40 }]}
        series={[{ data: bars.map((b) => b.n), label: 'runs', color: colours[0] ?? 'currentColor' }]}
      />
    </Picture>
  );
}
