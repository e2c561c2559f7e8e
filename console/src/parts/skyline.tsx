// The skyline: the last hour of the whole yard, along the top of every place. Where the ridge rises above the terraces, jobs
// wait.
import { Box } from "@chakra-ui/react";
import { LevelTable, Terraces, WIDTH, topOf } from "./terraces";
import type { Step } from "./terraces";

export type SkylineProps = { steps: Step[]; windowUs: number; height: number };

export function Skyline({ steps, windowUs, height }: SkylineProps) {
  const last = steps[steps.length - 1];
  if (!last) {
    return <Box h={`${height}px`} bg="hollow" aria-label="No data for the last hour" />;
  }
  const top = topOf(steps);
  const y = (value: number) => height - 2 - (value / top) * (height - 8);
  const minutes = Math.round(windowUs / 60e6);
  const most = Math.max(...steps.map((step) => step.waiting));
  const label =
    `The last ${minutes} minutes: ${last.waiting} jobs waiting, ${last.executing} executing, ${last.idle} slots ` +
    `free, ${last.coming} coming; peak ${most} waiting.`;
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
        <Terraces steps={steps} windowUs={windowUs} y={y} ground={height} />
      </svg>
      <LevelTable steps={steps} caption={label} />
    </Box>
  );
}
