import Table from '@mui/material/Table';
import TableBody from '@mui/material/TableBody';
import TableCell from '@mui/material/TableCell';
import TableHead from '@mui/material/TableHead';
import TableRow from '@mui/material/TableRow';
import { useState, type ReactNode } from 'react';
import { useNavigate } from 'react-router';
import { useKeys } from '../keys';

export interface Row {
  key: string;
  to: string;
  cells: ReactNode[];
}

/** A list of things that open: by a click, or by the keys. */
export function Rows({ label, heads, rows }: { label: string; heads: string[]; rows: Row[] }) {
  const go = useNavigate();
  const [at, setAt] = useState(0);
  const move = (by: number) => setAt((i) => Math.max(0, Math.min(rows.length - 1, i + by)));
  useKeys({
    j: () => move(1),
    ArrowDown: () => move(1),
    k: () => move(-1),
    ArrowUp: () => move(-1),
    Enter: () => {
      const row = rows[at];
      if (row) void go(row.to);
    },
  });
  return (
    <Table size="small" aria-label={label}>
      <TableHead>
        <TableRow>
          {heads.map((h, i) => (
            <TableCell key={h || i}>{h}</TableCell>
          ))}
        </TableRow>
      </TableHead>
      <TableBody>
        {rows.map((row, i) => (
          <TableRow key={row.key} hover selected={i === at} onClick={() => void go(row.to)} sx={{ cursor: 'pointer' }}>
            {row.cells.map((c, k) => (
              <TableCell key={heads[k] || k}>{c}</TableCell>
            ))}
          </TableRow>
        ))}
      </TableBody>
    </Table>
  );
}
