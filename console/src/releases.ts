import type { Release } from './api/client';
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
