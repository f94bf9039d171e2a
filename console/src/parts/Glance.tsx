import Box from '@mui/material/Box';
import type { ReactNode } from 'react';
import { Link } from 'react-router';
import type { Overview, PipelineOverview } from '../api/client';
import { ago, count } from '../text';
import { StateMark, stateColour } from './StateMark';
import { Strip } from './Strip';

const link = { color: 'primary.main' } as const;

/** What a project needs of people, each with the way there; nothing where it needs nothing. */
export function Needs({ of }: { of: Overview }) {
  const at = `/${encodeURIComponent(of.project)}`;
  const list: [string, string, boolean][] = [];
  if (of.held) list.push([`held: ${of.held}`, at, true]);
  if (of.trouble) list.push(['a push is not built', `${at}/pushes?state=set-aside`, true]);
  if (of.waiting) list.push([`${count(of.waiting, 'answer')} wanted`, '/-/gates', true]);
  if (of.failing) list.push([`${count(of.failing, 'test')} failing`, `${at}/tests`, true]);
  if (of.budget && of.budget.state !== 'fine')
    list.push([`budget ${of.budget.percent} % used`, `${at}/usage`, of.budget.state === 'spent']);
  if (of.flaky) list.push([`${of.flaky} flaky`, `${at}/tests?show=flaky`, false]);
  return (
    <Box
      sx={{
        display: 'flex',
        flexWrap: 'wrap',
        columnGap: 2,
        fontSize: 13,
        // What a finger has to meet (WCAG 2.2, 2.5.8).
        '& > a': { minHeight: 24, display: 'inline-flex', alignItems: 'center' },
      }}
    >
      {of.at_work + of.queued > 0 && (
        <Box component={Link} to="/-/queue" sx={{ color: stateColour('running') }}>
          {of.at_work} at work, {of.queued} queued
        </Box>
      )}
      {list.map(([text, to, urgent]) => (
        <Box
          key={text}
          component={Link}
          to={to}
          sx={{ color: stateColour(urgent ? 'waiting' : 'queued'), fontWeight: urgent ? 650 : 400 }}
        >
          {text}
        </Box>
      ))}
    </Box>
  );
}

/** A line for each branch that stands otherwise than passed, and for the one that ran last. */
const worth = (p: PipelineOverview, most: number) => {
  const bad = p.branches.filter((b) => b.state !== 'passed' && b.state !== 'cancelled');
  const first = p.branches[0];
  return (first && !bad.includes(first) ? [first, ...bad] : bad).slice(0, most);
};

/** How the pipelines of a project stand: the last runs of each, and the latest state of its branches. */
export function Strips({ of, most = 3 }: { of: Overview; most?: number }) {
  const at = `/${encodeURIComponent(of.project)}`;
  return (
    <Box
      component="ul"
      aria-label={`Pipelines of ${of.project}`}
      sx={{
        m: 0,
        p: 0,
        listStyle: 'none',
        display: 'grid',
        gridTemplateColumns: { xs: '1fr', md: 'minmax(90px, max-content) 210px 1fr' },
        columnGap: 2,
        rowGap: { xs: 1, md: 0.5 },
        fontSize: 13,
        '& > li': { display: 'contents' },
      }}
    >
      {of.pipelines.map((p) => (
        <li key={p.pipeline}>
          <Box
            component={Link}
            to={`${at}/time?pipeline=${encodeURIComponent(p.pipeline)}`}
            sx={{ color: 'inherit', fontWeight: 550, alignSelf: 'center' }}
          >
            {p.pipeline}
          </Box>
          <Strip runs={p.runs} />
          <Box sx={{ alignSelf: 'center', minWidth: 0 }}>
            {worth(p, most).map((b) => (
              <Box key={b.run} sx={{ overflow: 'hidden', textOverflow: 'ellipsis', whiteSpace: { md: 'nowrap' } }}>
                <StateMark state={b.state} />{' '}
                <Box component={Link} to={`${at}/${b.run}`} sx={link}>
                  run {b.run}
                </Box>{' '}
                {[b.tag || b.branch, ago(b.at)].filter(Boolean).join(', ')}
                {b.failed_at || b.reason ? (
                  <Box component="span" sx={{ color: stateColour(b.state) }}>
                    {' '}
                    at {b.failed_at || b.reason}
                  </Box>
                ) : (
                  <Box component="span" sx={{ color: 'text.secondary' }}>
                    {' '}
                    {b.subject}
                  </Box>
                )}
              </Box>
            ))}
          </Box>
        </li>
      ))}
    </Box>
  );
}

/** The latest release, and what is under way with it. */
export function LatestRelease({ of }: { of: Overview }): ReactNode {
  const r = of.release;
  if (!r) return null;
  const to = `/${encodeURIComponent(of.project)}/releases/${encodeURIComponent(r.app)}/${encodeURIComponent(r.name)}`;
  return (
    <Box component="span" sx={{ whiteSpace: 'nowrap', fontSize: 13 }}>
      release{' '}
      <Box component={Link} to={to} sx={link}>
        {r.name}
      </Box>
      , {ago(r.at)}
      {r.under_way > 0 && `, ${r.under_way} under way`}
    </Box>
  );
}

/** That what is shown is not what it seems. */
export function SetBack() {
  return (
    <Box component="span" sx={{ color: 'text.secondary', fontSize: 12 }}>
      These runs are real; their times were set back, for show.
    </Box>
  );
}
