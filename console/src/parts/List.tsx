import Table from '@mui/material/Table';
import TableBody from '@mui/material/TableBody';
import TableCell from '@mui/material/TableCell';
import TableHead from '@mui/material/TableHead';
import TableRow from '@mui/material/TableRow';
import type { ReactNode } from 'react';

/** A list of things to read, some of which may be done something about. */
export function List({
  label,
  heads,
  rows,
}: {
  label: string;
  heads: string[];
  rows: { key: string; cells: ReactNode[] }[];
}) {
  return (
    <Table size="small" aria-label={label}>
      <TableHead>
        <TableRow>
          {heads.map((h, i) => (
            <TableCell key={h || i} sx={{ whiteSpace: 'nowrap' }}>
              {h}
            </TableCell>
          ))}
        </TableRow>
      </TableHead>
      <TableBody>
        {rows.map((row) => (
          <TableRow key={row.key} hover>
            {row.cells.map((c, k) => (
              <TableCell key={heads[k] || k}>{c}</TableCell>
            ))}
          </TableRow>
        ))}
      </TableBody>
    </Table>
  );
}
