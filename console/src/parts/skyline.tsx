// The skyline: the last hour of the whole yard. Capacity stands in terraces (executing, idle, coming); demand is the
// ridge over it. Where the ridge rises above the terraces, jobs wait.
import { Box } from "@chakra-ui/react";
import type { Schemas } from "../api/client";

type Step = Schemas["LevelStep"];

const WIDTH = 1200;

export type SkylineProps = { steps: Step[]; windowUs: number; height: number };

const capacity = (step: Step) => step.executing + step.idle + step.coming;
const demand = (step: Step) => step.executing + step.waiting;

/** A stepped outline of a value over time, from left to right. */
function outline(steps: Step[], windowUs: number, y: (step: Step) => number): string {
  const x = (agoUs: number) => WIDTH * (1 - agoUs / windowUs);
  let path = "";
  steps.forEach((step, i) => {
    const left = x(step.ago_us);
    const right = i + 1 < steps.length ? x(steps[i + 1]!.ago_us) : WIDTH;
    path += `${i === 0 ? "M" : "L"}${left.toFixed(1)} ${y(step).toFixed(1)}L${right.toFixed(1)} ${y(step).toFixed(1)}`;
  });
  return path;
}

export function Skyline({ steps, windowUs, height }: SkylineProps) {
  const first = steps[0];
  const last = steps[steps.length - 1];
  if (!first || !last) {
    return <Box h={`${height}px`} bg="hollow" aria-label="Nothing was recorded in the last hour" />;
  }
  const top = Math.max(2, ...steps.map((step) => Math.max(capacity(step), demand(step))));
  const y = (value: number) => height - 2 - (value / top) * (height - 8);
  const left = WIDTH * (1 - first.ago_us / windowUs);
  const ground = `L${WIDTH} ${height}L${left.toFixed(1)} ${height}Z`;
  const area = (value: (step: Step) => number) => outline(steps, windowUs, (step) => y(value(step))) + ground;
  const minutes = Math.round(windowUs / 60e6);
  const most = Math.max(...steps.map((step) => step.waiting));
  const label =
    `The last ${minutes} minutes: now ${last.waiting} jobs wait, ${last.executing} execute, ${last.idle} slots are ` +
    `free; at most ${most} waited at once.`;
  return (
    <Box position="relative" bg="hollow" h={`${height}px`} css={{ "& svg": { display: "block" } }}>
      <svg
        width="100%"
        height={height}
        viewBox={`0 0 ${WIDTH} ${height}`}
        preserveAspectRatio="none"
        role="img"
        aria-label={label}
        data-testid="skyline"
      >
        <title>{label}</title>
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
      </svg>
      <Box as="table" srOnly>
        <caption>{label}</caption>
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
    </Box>
  );
}
