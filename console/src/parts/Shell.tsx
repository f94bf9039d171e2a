import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Dialog from '@mui/material/Dialog';
import DialogContent from '@mui/material/DialogContent';
import DialogTitle from '@mui/material/DialogTitle';
import { useColorScheme } from '@mui/material/styles';
import Typography from '@mui/material/Typography';
import { useQuery } from '@tanstack/react-query';
import { useEffect, useState, type ReactNode } from 'react';
import { Link, useLocation, useNavigate } from 'react-router';
import { api, take } from '../api/client';
import { useKeys } from '../keys';
import { useMe } from '../me';
import { useStream } from '../stream';
import { Health } from './Health';
import { Palette } from './Palette';
import { Rail } from './Rail';
import { mono } from '../theme';

const keys: [string, string][] = [
  ['↑ ↓  or  k j', 'previous, next line of a list'],
  ['Enter', 'open it'],
  ['u', 'up: from a run to its project, to all projects'],
  ['g  or  Ctrl K', 'go to a room, a project or a run by a few letters'],
  ['q', 'the queue of all projects'],
  ['p', 'pipelines of the project'],
  ['x', 'its secrets'],
  ['s', 'start a pipeline by hand'],
  ['f', 'follow the log, or stop following'],
  ['/', 'find in the log'],
  ['n', 'the notes of a run, or its log; of two logs, the next difference (N: the one before)'],
  ['r', 'start again what failed in a run'],
  ['a', 'to the answer, where a run asks for one'],
  ['e', 'to the first line that matters of a failed run'],
  ['d', 'light, dark, or as the system'],
  ['?', 'these keys'],
];

/** How many gates wait for the word of who is signed in. */
function useMine(): string {
  const query = useQuery({
    queryKey: ['gates', 'mine'],
    refetchInterval: 30_000,
    queryFn: async () => take(await api.GET('/api/v1/gates', { params: { query: { mine: true, limit: 20 } } })),
  });
  const n = query.data?.gates.length ?? 0;
  return n > 0 ? `${n}${query.data?.next ? '+' : ''}` : '';
}

/** The frame of every page: where one is, whether it is live, and the keys. */
export function Shell({ signOut, children }: { signOut: () => void; children: ReactNode }) {
  const { pathname } = useLocation();
  const { name } = useMe();
  const parts = pathname.split('/').filter(Boolean).map(decodeURIComponent);
  const { live } = useStream();
  const { mode, setMode } = useColorScheme();
  const [help, setHelp] = useState(false);
  const [going, setGoing] = useState(false);
  const turn = () => setMode(mode === 'light' ? 'dark' : mode === 'dark' ? 'system' : 'light');
  const go = useNavigate();
  const mine = useMine();
  const project = parts[0] && parts[0] !== '-' ? parts[0] : '';
  useKeys({
    '?': () => setHelp(true),
    g: () => setGoing(true),
    d: turn,
    q: () => void go('/-/queue'),
    p: () => {
      if (project) void go(`/${encodeURIComponent(project)}/pipelines`);
    },
    x: () => {
      if (project) void go(`/${encodeURIComponent(project)}/secrets`);
    },
  });
  useEffect(() => {
    const onKey = (e: KeyboardEvent) => {
      if (!(e.ctrlKey || e.metaKey) || e.key.toLowerCase() !== 'k' || (e.target as Element).closest('.xterm')) return;
      e.preventDefault();
      setGoing(true);
    };
    window.addEventListener('keydown', onKey);
    return () => window.removeEventListener('keydown', onKey);
  }, []);
  const crumb = {
    color: 'inherit',
    display: 'inline-block',
    minHeight: 24,
    minWidth: 24,
    textDecoration: 'none',
    '&:hover': { textDecoration: 'underline' },
  } as const;
  const of = `/${encodeURIComponent(project)}`;
  const links: [string, string][] = [
    ['Queue', '/-/queue'],
    [mine ? `Gates (${mine})` : 'Gates', '/-/gates'],
  ];
  return (
    <Box sx={{ height: '100dvh', display: 'flex', flexDirection: 'column' }}>
      <Box
        component="header"
        sx={{
          display: 'flex',
          flexWrap: { xs: 'wrap', md: 'nowrap' },
          alignItems: 'center',
          columnGap: 2,
          px: { xs: 1, md: 2 },
          minHeight: 44,
          flexShrink: 0,
          borderBottom: 1,
          borderColor: 'divider',
          bgcolor: 'background.paper',
        }}
      >
        <Box
          component="nav"
          aria-label="Where you are"
          sx={{
            display: 'flex',
            gap: 1,
            alignItems: 'baseline',
            flexGrow: 1,
            minWidth: 0,
            flexBasis: { xs: '100%', md: 'auto' },
            pt: { xs: 0.75, md: 0 },
            whiteSpace: 'nowrap',
            overflow: 'hidden',
            textOverflow: 'ellipsis',
          }}
        >
          <Box component={Link} to="/" sx={{ ...crumb, fontWeight: 700, color: 'primary.main' }}>
            Gentle Piston
          </Box>
          {project && (
            <>
              <span aria-hidden>/</span>
              <Box component={Link} to={of} sx={crumb}>
                {project}
              </Box>
            </>
          )}
          {project && parts[1] && (
            <>
              <span aria-hidden>/</span>
              {/^\d+$/.test(parts[1]) ? (
                <span>run {parts[1]}</span>
              ) : (
                <Box component={Link} to={`${of}/${parts[1]}`} sx={crumb}>
                  {parts[1]}
                </Box>
              )}
            </>
          )}
          {project && parts[2] && (
            <>
              <span aria-hidden>/</span>
              <span>{parts.slice(2).join(' ')}</span>
            </>
          )}
          {parts[0] === '-' && (
            <>
              <span aria-hidden>/</span>
              <span>{parts[1]}</span>
            </>
          )}
        </Box>
        <Button
          size="small"
          variant="outlined"
          color="inherit"
          onClick={() => setGoing(true)}
          aria-keyshortcuts="Control+K"
          sx={{ flexShrink: 0 }}
        >
          Go to …{' '}
          <Box
            component="span"
            aria-hidden
            sx={{ ml: 1, color: 'text.secondary', display: { xs: 'none', md: 'inline' } }}
          >
            g
          </Box>
        </Button>
        <Box component="nav" aria-label="Pages" sx={{ display: 'flex', flexWrap: 'wrap' }}>
          {links.map(([label, to]) => (
            <Button key={to} size="small" color="inherit" component={Link} to={to} sx={{ minWidth: 44 }}>
              {label}
            </Button>
          ))}
        </Box>
        <Box sx={{ display: 'flex', flexWrap: 'wrap', alignItems: 'center', ml: { xs: 'auto', md: 0 } }}>
          <Typography variant="body2" role="status" color="text.secondary" sx={{ mr: 1 }}>
            {live ? '● live' : '○ connecting …'}
          </Typography>
          <Button size="small" color="inherit" onClick={turn} aria-label={`Colours: ${mode ?? 'system'}`}>
            {mode === 'light' ? '☀ light' : mode === 'dark' ? '☾ dark' : '◐ system'}
          </Button>
          <Button size="small" color="inherit" onClick={() => setHelp(true)} aria-label="Keys" sx={{ minWidth: 32 }}>
            ?
          </Button>
          <Button
            size="small"
            color="inherit"
            component={Link}
            to="/-/you"
            aria-label={`${name}: your password and tokens`}
          >
            {name}
          </Button>
          <Button size="small" color="inherit" onClick={signOut}>
            Sign out
          </Button>
        </Box>
      </Box>
      <Health />
      <Box sx={{ flexGrow: 1, minHeight: 0, display: 'flex' }}>
        {project && <Rail project={project} below={parts[1]} />}
        <Box component="main" sx={{ flexGrow: 1, minWidth: 0, overflow: 'auto' }}>
          {children}
        </Box>
      </Box>
      <Palette open={going} close={() => setGoing(false)} project={project} />
      <Dialog open={help} onClose={() => setHelp(false)}>
        <DialogTitle>Keys</DialogTitle>
        <DialogContent>
          <Box component="dl" sx={{ display: 'grid', gridTemplateColumns: 'auto 1fr', columnGap: 3, rowGap: 1, m: 0 }}>
            {keys.map(([k, what]) => [
              <Box component="dt" key={k} sx={{ fontFamily: mono }}>
                {k}
              </Box>,
              <Box component="dd" key={`${k} does`} sx={{ m: 0 }}>
                {what}
              </Box>,
            ])}
          </Box>
        </DialogContent>
      </Dialog>
    </Box>
  );
}
