import { hierarchy, treemap, treemapSquarify } from 'd3-hierarchy';

/** Some bytes of a package: a group, a folder or a file. */
export interface Piece {
  name: string;
  /** Where it is: names from the group down. */
  path: string[];
  bytes: number;
  inside: Piece[];
}

export interface Part {
  group: string;
  path: string;
  packed: number;
}

/** Builds what can be walked into from the parts of a package: by group, then by folder. Small rests have no path. */
export function pieces(parts: Part[], root: string): Piece {
  const top: Piece = { name: '', path: [], bytes: 0, inside: [] };
  for (const p of parts) {
    const inner = p.path.startsWith(root) ? p.path.slice(root.length) : p.path;
    const names = [p.group, ...(inner ? inner.split('/') : p.path ? [] : ['the rest'])];
    let at = top;
    at.bytes += p.packed;
    for (const name of names) {
      let next = at.inside.find((i) => i.name === name);
      if (!next) {
        next = { name, path: [...at.path, name], bytes: 0, inside: [] };
        at.inside.push(next);
      }
      next.bytes += p.packed;
      at = next;
    }
  }
  return top;
}

/** The piece at a path, or the nearest above it. */
export function pieceAt(top: Piece, path: string[]): Piece {
  let at = top;
  for (const name of path) {
    const next = at.inside.find((i) => i.name === name);
    if (!next) break;
    at = next;
  }
  return at;
}

export interface Tile {
  piece: Piece;
  /** Per cent of the width and height of all. */
  left: number;
  top: number;
  width: number;
  height: number;
}

/** Lays the pieces inside one out, each as large as its bytes, as near to squares as can be. */
export function tiles(of: Piece, ratio: number): Tile[] {
  const root = hierarchy({ piece: of, inside: of.inside.map((piece) => ({ piece, inside: [] })) }, (d) => d.inside)
    .sum((d) => (d.inside.length > 0 ? 0 : d.piece.bytes))
    .sort((a, b) => (b.value ?? 0) - (a.value ?? 0));
  const laid = treemap<(typeof root)['data']>()
    .tile(treemapSquarify)
    .size([ratio * 100, 100])(root);
  return (laid.children ?? []).map((c) => ({
    piece: c.data.piece,
    left: c.x0 / ratio,
    top: c.y0,
    width: (c.x1 - c.x0) / ratio,
    height: c.y1 - c.y0,
  }));
}

/** By how much something has grown, in words. */
export function grown(was: number, now: number, size: (bytes: number) => string): string {
  if (was === now) return 'the same';
  if (was === 0) return 'new';
  if (now === 0) return 'gone';
  if (now >= was * 10) return `+${size(now - was)}, ${Math.round(now / was)} times as much`;
  const sign = now > was ? '+' : '−';
  return `${sign}${size(Math.abs(now - was))}, ${sign}${Math.abs(((now - was) / was) * 100).toFixed(1)} %`;
}

/** What a kind of device loads of an app bundle. */
export interface Load {
  processor?: string;
  size: number;
}

/** For each processor from how much to how much is loaded, by the screens. */
export function loads(list: Load[], show: (bytes: number) => string): string[] {
  const by = new Map<string, number[]>();
  for (const d of list) by.set(d.processor ?? '', [...(by.get(d.processor ?? '') ?? []), d.size]);
  return [...by].map(([processor, sizes]) => {
    const least = Math.min(...sizes);
    const most = Math.max(...sizes);
    return `${processor} ${show(least)}${most > least ? ` to ${show(most)}` : ''}`.trim();
  });
}
