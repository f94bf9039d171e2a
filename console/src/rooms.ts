/** The rooms of the console, each once: the rail, the palette and the crumbs know them from here. */

export interface Room {
  name: string;
  /** Below the project, or of the whole service. */
  path: string;
  group: 'Now' | 'Why' | 'Out' | 'Set up' | 'Service';
  /** Words by which it is found, too. */
  also?: string;
  /** Whom it is for. */
  role?: 'keeper' | 'administrator';
}

export const projectRooms: Room[] = [
  { name: 'Runs', path: '', group: 'Now', also: 'overview start branches' },
  { name: 'Pushes', path: 'pushes', group: 'Now', also: 'events hooks' },
  { name: 'Time', path: 'time', group: 'Why', also: 'slow steps trend duration' },
  { name: 'Tests', path: 'tests', group: 'Why', also: 'cases flaky junit' },
  { name: 'Failures', path: 'failures', group: 'Why', also: 'causes errors' },
  { name: 'Logs', path: 'logs', group: 'Why', also: 'search find text' },
  { name: 'Shells', path: 'shells', group: 'Why', also: 'look around terminal stays recordings' },
  { name: 'Usage', path: 'usage', group: 'Why', also: 'minutes budget waste cost' },
  { name: 'Versions', path: 'versions', group: 'Out', also: 'ledger numbers' },
  { name: 'Packages', path: 'packages', group: 'Out', also: 'apk ipa artifacts' },
  { name: 'Releases', path: 'releases', group: 'Out', also: 'notes publications' },
  { name: 'Outlets', path: 'outlets', group: 'Out', also: 'stores testers channels' },
  { name: 'Pipelines', path: 'pipelines', group: 'Set up', also: 'files edit' },
  { name: 'Secrets', path: 'secrets', group: 'Set up' },
  { name: 'Identities', path: 'identities', group: 'Set up', also: 'signing keys certificates profiles' },
  { name: 'Caches', path: 'caches', group: 'Set up' },
  { name: 'Kept', path: 'kept', group: 'Set up', also: 'retention disk rules' },
  { name: 'Webhooks', path: 'webhooks', group: 'Set up', also: 'messages notify badge feed', role: 'keeper' },
  { name: 'Settings', path: 'settings', group: 'Set up', also: 'hold limit network remove repository lend land' },
  { name: 'Audit', path: 'audit', group: 'Set up', also: 'who did what', role: 'keeper' },
];

export const serviceRooms: Room[] = [
  { name: 'Projects', path: '', group: 'Service', also: 'start home' },
  { name: 'Queue', path: 'queue', group: 'Service', also: 'waiting runners' },
  { name: 'Gates', path: 'gates', group: 'Service', also: 'answers people' },
  { name: 'Causes', path: 'causes', group: 'Service', also: 'why failures catalogue what to do' },
  { name: 'Usage of all', path: 'usage', group: 'Service', also: 'minutes', role: 'administrator' },
  { name: 'People', path: 'people', group: 'Service', role: 'administrator' },
  { name: 'Audit of all', path: 'audit', group: 'Service', role: 'administrator' },
  { name: 'You', path: 'you', group: 'Service', also: 'password tokens mail' },
];

const of = (project: string) => `/${encodeURIComponent(project)}`;

export const pathOf = (room: Room, project?: string) =>
  project === undefined ? (room.path ? `/-/${room.path}` : '/') : of(project) + (room.path ? `/${room.path}` : '');

/** The room of a project that a path below it is in: runs, where it is none of the others. */
export const roomAt = (below: string | undefined): Room =>
  projectRooms.find((r) => r.path && r.path === below) ?? (projectRooms[0] as Room);

/** Somewhere to go. */
export interface Place {
  label: string;
  to: string;
  group: string;
  words: string;
}

type May = (role: 'keeper', project: string) => boolean;

/** All places one may go to by name, those of the project one is in first. */
export function places(project: string, names: string[], administrator: boolean, may: May): Place[] {
  const inProject = project
    ? projectRooms
        .filter((r) => r.role !== 'keeper' || may('keeper', project))
        .map((r) => ({ label: r.name, to: pathOf(r, project), group: project, words: r.also ?? '' }))
    : [];
  const all = serviceRooms
    .filter((r) => !r.role || administrator)
    .map((r) => ({ label: r.name, to: pathOf(r), group: 'Service', words: r.also ?? '' }));
  const others = names.map((n) => ({ label: n, to: of(n), group: 'Projects', words: 'project' }));
  return [...inProject, ...all, ...others];
}

/** Places that hold all words of a text; a number is a run of the project one is in. */
export function found(list: Place[], text: string, project: string): Place[] {
  const words = text.toLowerCase().split(/\s+/).filter(Boolean);
  const fits = list.filter((p) => {
    const within = `${p.label} ${p.group} ${p.words}`.toLowerCase();
    return words.every((w) => within.includes(w));
  });
  const n = /^#?(\d{1,12})$/.exec(text.trim());
  if (n && project) fits.unshift({ label: `Run ${n[1]}`, to: `${of(project)}/${n[1]}`, group: project, words: '' });
  return fits;
}
