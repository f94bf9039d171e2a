import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Dialog from '@mui/material/Dialog';
import DialogContent from '@mui/material/DialogContent';
import DialogTitle from '@mui/material/DialogTitle';
import { useColorScheme } from '@mui/material/styles';
import Typography from '@mui/material/Typography';
import { useState, type ReactNode } from 'react';
import { Link, useLocation, useNavigate } from 'react-router';
import { useKeys } from '../keys';
import { useMe } from '../me';
import { useStream } from '../stream';
import { mono } from '../theme';

const keys: [string, string][] = [
  ['↑ ↓  or  k j', 'previous, next line of a list'], ['Enter', 'open it'], ['u', 'up: from a run to its project, to all projects'],
  ['q', 'the queue of all projects'], ['p', 'pipelines of the project'], ['x', 'its secrets'], ['s', 'start a pipeline by hand'],
  ['f', 'follow the log, or stop following'], ['r', 'start again what failed in a run'], ['e', 'to the first line that matters of a failed run'], ['d', 'light, dark, or as the system'], ['?', 'these keys'],
];

/** The frame of every page: where one is, whether it is live, and the keys. */
export function Shell({ signOut, children }: { signOut: () => void; children: ReactNode }) {
  const { pathname } = useLocation();
  const { name, administrator, may } = useMe();
  const parts = pathname.split('/').filter(Boolean).map(decodeURIComponent);
  const { live } = useStream();
  const { mode, setMode } = useColorScheme();
  const [help, setHelp] = useState(false);
  const turn = () => setMode(mode === 'light' ? 'dark' : mode === 'dark' ? 'system' : 'light');
  const go = useNavigate();
  const project = parts[0] && parts[0] !== '-' ? parts[0] : '';
  useKeys({ '?': () => setHelp(true), d: turn, q: () => void go('/-/queue'), p: () => { if (project) void go(`/${encodeURIComponent(project)}/pipelines`); }, x: () => { if (project) void go(`/${encodeURIComponent(project)}/secrets`); } });
  const page = (part: string) => ['pipelines', 'secrets', 'audit'].includes(part);
  const crumb = { color: 'inherit', textDecoration: 'none', '&:hover': { textDecoration: 'underline' } } as const;
  return (
    <Box sx={{ height: '100dvh', display: 'flex', flexDirection: 'column' }}>
      <Box component="header" sx={{ display: 'flex', alignItems: 'center', gap: 2, px: 2, height: 44, flexShrink: 0, borderBottom: 1, borderColor: 'divider', bgcolor: 'background.paper' }}>
        <Box component="nav" aria-label="Where you are" sx={{ display: 'flex', gap: 1, alignItems: 'baseline', flexGrow: 1, minWidth: 0 }}>
          <Box component={Link} to="/" sx={{ ...crumb, fontWeight: 700, color: 'primary.main' }}>Gentle Piston</Box>
          {project && <><span aria-hidden>/</span><Box component={Link} to={`/${encodeURIComponent(project)}`} sx={crumb}>{project}</Box></>}
          {project && parts[1] && <><span aria-hidden>/</span>{page(parts[1]) ? <Box component={Link} to={`/${encodeURIComponent(project)}/${parts[1]}`} sx={crumb}>{parts[1]}</Box> : <span>run {parts[1]}</span>}</>}
          {project && parts[2] && <><span aria-hidden>/</span><span>{parts[2]}</span></>}
          {parts[0] === '-' && <><span aria-hidden>/</span><span>{parts[1]}</span></>}
        </Box>
        {project && <Button size="small" color="inherit" component={Link} to={`/${encodeURIComponent(project)}/pipelines`}>Pipelines</Button>}
        {project && <Button size="small" color="inherit" component={Link} to={`/${encodeURIComponent(project)}/secrets`}>Secrets</Button>}
        {project && may('keeper', project) && <Button size="small" color="inherit" component={Link} to={`/${encodeURIComponent(project)}/audit`}>Audit</Button>}
        <Button size="small" color="inherit" component={Link} to="/-/queue">Queue</Button>
        {administrator && <Button size="small" color="inherit" component={Link} to="/-/people">People</Button>}
        {administrator && !project && <Button size="small" color="inherit" component={Link} to="/-/audit">Audit</Button>}
        <Typography variant="body2" role="status" color="text.secondary">{live ? '● live' : '○ connecting …'}</Typography>
        <Button size="small" color="inherit" onClick={turn} aria-label={`Colours: ${mode ?? 'system'}`}>{mode === 'light' ? '☀ light' : mode === 'dark' ? '☾ dark' : '◐ system'}</Button>
        <Button size="small" color="inherit" onClick={() => setHelp(true)} aria-label="Keys">?</Button>
        <Button size="small" color="inherit" component={Link} to="/-/you" aria-label={`${name}: your password and tokens`}>{name}</Button>
        <Button size="small" color="inherit" onClick={signOut}>Sign out</Button>
      </Box>
      <Box component="main" sx={{ flexGrow: 1, minHeight: 0, overflow: 'auto' }}>{children}</Box>
      <Dialog open={help} onClose={() => setHelp(false)}>
        <DialogTitle>Keys</DialogTitle>
        <DialogContent>
          <Box component="dl" sx={{ display: 'grid', gridTemplateColumns: 'auto 1fr', columnGap: 3, rowGap: 1, m: 0 }}>
            {keys.map(([k, what]) => [<Box component="dt" key={k} sx={{ fontFamily: mono }}>{k}</Box>, <Box component="dd" key={`${k} does`} sx={{ m: 0 }}>{what}</Box>])}
          </Box>
        </DialogContent>
      </Dialog>
    </Box>
  );
}
