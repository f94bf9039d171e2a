/** Where a job stands in the drawing of a pipeline: layers from the left, rows from the top. */
export interface GraphPlace {
  layer: number;
  row: number;
}

/** The jobs each one comes directly after: those that another of them comes after already are left out. */
export function direct(jobs: { name: string; after: string[] }[]): Map<string, string[]> {
  const before = new Map<string, Set<string>>();
  const out = new Map<string, string[]>();
  for (const job of jobs) {
    const all = new Set<string>();
    for (const a of job.after) {
      all.add(a);
      for (const b of before.get(a) ?? []) all.add(b);
    }
    before.set(job.name, all);
    out.set(
      job.name,
      job.after.filter((a) => !job.after.some((other) => other !== a && before.get(other)?.has(a))),
    );
  }
  return out;
}

/**
 * Lays jobs out in layers: each one layer right of the last job it comes after. Within a layer a job is drawn near the
 * middle of those before it, so that lines cross little. Jobs must come in an order in which they can run.
 */
export function layers(jobs: { name: string; after: string[] }[]): Map<string, GraphPlace> {
  const places = new Map<string, GraphPlace>();
  const byLayer: { name: string; after: string[] }[][] = [];
  for (const job of jobs) {
    const layer = Math.max(-1, ...job.after.map((a) => places.get(a)?.layer ?? -1)) + 1;
    places.set(job.name, { layer, row: 0 });
    (byLayer[layer] ??= []).push(job);
  }
  for (const layer of byLayer) {
    const middle = (j: { after: string[] }) => {
      const rows = j.after.map((a) => places.get(a)?.row ?? 0);
      return rows.length ? rows.reduce((a, b) => a + b, 0) / rows.length : 0;
    };
    layer
      .map((job, i) => ({ job, i, at: middle(job) }))
      .sort((a, b) => a.at - b.at || a.i - b.i)
      .forEach(({ job }, row) => {
        const p = places.get(job.name);
        if (p) p.row = row;
      });
  }
  return places;
}
