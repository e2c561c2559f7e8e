// Where each job of a run is drawn: a column for each step, and within it near what it waits for.
import type { JobLine, RunJob } from "../../api/client";

export type Node = { name: string; column: number; row: number; job: JobLine; isCritical: boolean };
export type Edge = { from: Node; to: Node; isCritical: boolean };

/** The columns and rows of a run's jobs. Jobs of a column stand in the order of the mean row of what they wait for. */
export function layered(jobs: RunJob[], critical: string[]) {
  const placed = new Map<string, Node>();
  const columns = Math.max(0, ...jobs.map(({ step }) => step));
  const onPath = new Set(critical);
  const edges: Edge[] = [];
  let rows = 0;
  for (let step = 1; step <= columns; step += 1) {
    const own = jobs.filter((one) => one.step === step);
    const wish = (one: RunJob) => {
      const found = (one.after ?? []).flatMap(({ job }) => placed.get(job)?.row ?? []);
      return found.length === 0 ? 0 : found.reduce((sum, row) => sum + row, 0) / found.length;
    };
    const wishes = new Map(own.map((one) => [one.job.id, wish(one)]));
    own.sort((a, b) => (wishes.get(a.job.id) ?? 0) - (wishes.get(b.job.id) ?? 0));
    own.forEach(({ job, after }, row) => {
      const node = { name: job.name, column: step - 1, row, job, isCritical: onPath.has(job.name) };
      placed.set(job.name, node);
      rows = Math.max(rows, row + 1);
      for (const need of after ?? []) {
        const from = placed.get(need.job);
        if (!from) continue;
        const at = critical.indexOf(job.name);
        edges.push({ from, to: node, isCritical: at > 0 && critical[at - 1] === need.job });
      }
    });
  }
  // What is on the path is drawn last, above the rest.
  edges.sort((a, b) => Number(a.isCritical) - Number(b.isCritical));
  return { nodes: [...placed.values()], edges, columns, rows };
}
