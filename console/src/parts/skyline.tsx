// The skyline: the last hour of the whole yard, along the top of every place. Where the ridge rises above the terraces, jobs
// wait.
import { Box, Flex } from "@chakra-ui/react";
import { Link } from "react-router";
import { counted, number } from "./count";
import { Cursor, LevelKeys, LevelTable, Terraces, WIDTH, topOf, useCursor } from "./terraces";
import type { Step } from "./terraces";

export type SkylineProps = { steps: Step[]; windowUs: number; height: number };

/** The marks of the scale, in parts of the window from its end. */
const MARKS = [0.75, 0.5, 0.25];

export function Skyline({ steps, windowUs, height }: SkylineProps) {
  const cursor = useCursor(steps, windowUs);
  const last = steps[steps.length - 1];
  if (!last) {
    return <Box h={`${height}px`} bg="hollow" role="img" aria-label="No data for the last hour" />;
  }
  const top = topOf(steps);
  const y = (value: number) => height - 2 - (value / top) * (height - 8);
  const minutes = Math.round(windowUs / 60e6);
  const window = minutes === 60 ? "Last hour" : `Last ${minutes} min`;
  const most = Math.max(...steps.map((step) => step.waiting));
  const label =
    `${window}: now ${counted(last.waiting, "job waits", "jobs wait")}, ${number(last.executing)} executing, ` +
    `${counted(last.idle, "slot")} idle, ${number(last.coming)} coming; at most ${number(most)} waited.`;
  return (
    <Box position="relative" bg="hollow" h={`${height}px`} overflow="hidden" css={{ "& svg": { display: "block" } }}>
      <svg width="100%" height={height} viewBox={`0 0 ${WIDTH} ${height}`} preserveAspectRatio="none" aria-hidden="true">
        <Terraces steps={steps} windowUs={windowUs} y={y} ground={height} />
      </svg>
      {MARKS.map((part) => (
        <Box
          key={part}
          position="absolute"
          bottom="0"
          h="15px"
          pl="3px"
          borderLeft="1px solid"
          borderColor="edge"
          fontSize="11px"
          lineHeight="15px"
          color="ink"
          aria-hidden="true"
          pointerEvents="none"
          style={{ left: `${(1 - part) * 100}%` }}
        >
          <Label>{Math.round(minutes * part)} min ago</Label>
        </Box>
      ))}
      <Flex position="absolute" top="2px" left="8px" gap="14px" fontSize="11px" color="ink" aria-hidden="true" pointerEvents="none">
        <Label>{window}</Label>
        <Box display={{ base: "none", md: "block" }}>
          <Label>
            <LevelKeys />
          </Label>
        </Box>
        <Label>up to {counted(Math.ceil(top), "slot")}</Label>
      </Flex>
      <Cursor part={cursor.part} step={cursor.step} />
      <Link
        to="/"
        aria-label={`Now. ${label} Arrow keys show earlier values.`}
        data-testid="skyline"
        style={{ position: "absolute", inset: 0, outlineOffset: "-3px" }}
        {...cursor.handlers}
      />
      <LevelTable steps={steps} caption={label} />
    </Box>
  );
}

/** Words on the drawing, readable whatever is behind them. */
function Label({ children }: { children: React.ReactNode }) {
  return (
    <Box as="span" display="inline-block" px="4px" lineHeight="15px" borderRadius="2px" bg="ground" opacity="0.92">
      {children}
    </Box>
  );
}
