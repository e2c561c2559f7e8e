// Demand over capacity: capacity stands in terraces (executing, idle, coming), demand is the ridge over it. The skyline and
// a pool's relief are this drawing, small and large.
import { Box } from "@chakra-ui/react";
import type { Schemas } from "../api/client";

export type Step = Schemas["LevelStep"];

/** The width of the drawing in its own units; it is stretched to where it stands. */
export const WIDTH = 1200;

export const capacity = (step: Step) => step.executing + step.idle + step.coming;
export const demand = (step: Step) => step.executing + step.waiting;

/** How high the drawing has to reach. */
export const topOf = (steps: Step[]) => Math.max(2, ...steps.map((step) => Math.max(capacity(step), demand(step))));

/** Where a moment so long ago stands. */
export const across = (agoUs: number, windowUs: number) => WIDTH * (1 - agoUs / windowUs);

/** A stepped outline of a value over time, from left to right. */
function outline(steps: Step[], windowUs: number, y: (step: Step) => number): string {
  let path = "";
  steps.forEach((step, i) => {
    const left = across(step.ago_us, windowUs);
    const right = i + 1 < steps.length ? across(steps[i + 1]!.ago_us, windowUs) : WIDTH;
    path += `${i === 0 ? "M" : "L"}${left.toFixed(1)} ${y(step).toFixed(1)}L${right.toFixed(1)} ${y(step).toFixed(1)}`;
  });
  return path;
}

/** The terraces and the ridge. `y` says how high a number of slots stands; the ground is at `ground`. */
export function Terraces({ steps, windowUs, y, ground }: {
  steps: Step[];
  windowUs: number;
  y: (slots: number) => number;
  ground: number;
}) {
  const first = steps[0];
  if (!first) return null;
  const left = across(first.ago_us, windowUs);
  const below = `L${WIDTH} ${ground}L${left.toFixed(1)} ${ground}Z`;
  const area = (value: (step: Step) => number) => outline(steps, windowUs, (step) => y(value(step))) + below;
  return (
    <>
      <Box asChild color="brackenWash">
        <path d={area(demand)} fill="currentColor" />
      </Box>
      <Box asChild color="gritstoneWash">
        <path d={area(capacity)} fill="currentColor" />
      </Box>
      <Box asChild color="mossWash">
        <path d={area((step) => step.executing + step.idle)} fill="currentColor" />
      </Box>
      <Box asChild color="heather">
        <path d={area((step) => step.executing)} fill="currentColor" />
      </Box>
      <Box asChild color="bracken">
        <path
          d={outline(steps, windowUs, (step) => y(demand(step)))}
          fill="none"
          stroke="currentColor"
          strokeWidth="2"
          vectorEffect="non-scaling-stroke"
        />
      </Box>
    </>
  );
}

/** The same as a table, for those who do not see it. */
export function LevelTable({ steps, caption }: { steps: Step[]; caption: string }) {
  return (
    <Box as="table" srOnly>
      <caption>{caption}</caption>
      <thead>
        <tr>
          <th>minutes ago</th>
          <th>waiting</th>
          <th>executing</th>
          <th>idle</th>
          <th>coming</th>
        </tr>
      </thead>
      <tbody>
        {steps
          .filter((_, i) => i % 20 === 0)
          .map((step) => (
            <tr key={step.ago_us}>
              <td>{Math.round(step.ago_us / 60e6)}</td>
              <td>{step.waiting}</td>
              <td>{step.executing}</td>
              <td>{step.idle}</td>
              <td>{step.coming}</td>
            </tr>
          ))}
      </tbody>
    </Box>
  );
}
