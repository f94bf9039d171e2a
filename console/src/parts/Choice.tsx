import MenuItem from '@mui/material/MenuItem';
import TextField from '@mui/material/TextField';
import { useSearchParams } from 'react-router';

/** A choice of the search that narrows the list; empty is any. */
export function Choice({ label, name, options }: { label: string; name: string; options: Record<string, string> }) {
  const [search, setSearch] = useSearchParams();
  const choose = (to: string) =>
    setSearch(
      (now) => {
        if (to) now.set(name, to);
        else now.delete(name);
        return now;
      },
      { replace: true },
    );
  return (
    <TextField
      select
      size="small"
      label={label}
      value={search.get(name) ?? ''}
      sx={{ minWidth: 150 }}
      slotProps={{ inputLabel: { shrink: true }, select: { displayEmpty: true } }}
      onChange={(e) => choose(e.target.value)}
    >
      {Object.entries(options).map(([value, text]) => (
        <MenuItem key={value} value={value}>
          {text}
        </MenuItem>
      ))}
    </TextField>
  );
}
