/** Where a job stands in the drawing of a pipeline: layers from the left, rows from the top. */
export interface GraphPlace { layer: number; row: number }

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
    layer.map((job, i) => ({ job, i, at: middle(job) })).sort((a, b) => a.at - b.at || a.i - b.i)
      .forEach(({ job }, row) => { const p = places.get(job.name); if (p) p.row = row; });
  }
  return places;
}
