import type { Publication, Release } from './api/client';
import { size } from './text';
import { platforms } from './versions';

/** The build numbers of a release, by their platforms. */
export const buildsOf = (r: Pick<Release, 'builds'>) =>
  Object.entries(r.builds)
    .sort()
    .map(([platform, n]) => `${platforms[platform as keyof typeof platforms] ?? platform} ${n}`)
    .join(', ');

/** Where the page of a release is. */
export const releaseAddress = (r: Pick<Release, 'project' | 'app' | 'name'>) =>
  `/${[r.project, 'releases', r.app, r.name].map(encodeURIComponent).join('/')}`;

interface Look {
  sign: string;
  colour: string;
}

const looks: Record<string, Look> = {
  prepared: { sign: '·', colour: 'state.quiet' },
  sending: { sign: '▸', colour: 'state.busy' },
  processing: { sign: '▸', colour: 'state.busy' },
  'in-review': { sign: '?', colour: 'state.ask' },
  accepted: { sign: '✓', colour: 'state.good' },
  shared: { sign: '◔', colour: 'state.good' },
  out: { sign: '✓', colour: 'state.good' },
  halted: { sign: '◷', colour: 'state.late' },
  refused: { sign: '✗', colour: 'state.bad' },
  withdrawn: { sign: '⊘', colour: 'state.bad' },
};

/** The sign and colour that go with the word of a publication's state. */
export const lookOf = (state: string): Look => looks[state] ?? { sign: '·', colour: 'state.quiet' };

/** What else is to be said of how a publication stands. */
export function publicationWord(
  p: Pick<Publication, 'out_to' | 'sent' | 'total' | 'share'> & { state: string; wants?: string },
) {
  const wants = p.wants ? `; to ${p.wants}${p.wants === 'share' ? ` to ${p.share} %` : ''}` : '';
  if (p.state === 'sending') return `${size(p.sent)} of ${size(p.total)}${wants}`;
  if (p.state === 'shared' || p.state === 'out') return `to ${p.out_to} %${wants}`;
  if (p.state === 'halted') return `at ${p.out_to} %${wants}`;
  return wants.slice(2);
}
