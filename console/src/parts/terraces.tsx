// Demand over capacity: capacity stands in terraces (executing, idle, coming), demand is the ridge over it. The skyline and
// a pool's relief are this drawing, small and large.
import { Box, Flex } from "@chakra-ui/react";
import { useState } from "react";
import type { KeyboardEvent, PointerEvent, ReactNode } from "react";
import type { Schemas } from "../api/client";
import { number } from "./count";
import { spoken } from "./time";

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

/** The step that holds at a part of the width, 0 to 1. */
function stepAt(steps: Step[], windowUs: number, part: number): number {
  const ago = windowUs * (1 - part);
  const later = steps.findIndex((step) => step.ago_us < ago);
  return later < 0 ? steps.length - 1 : Math.max(0, later - 1);
}

/** Parts of the width that a key moves the cursor by. */
const KEY_STEP = 1 / 60;

/** The cursor of a chart: a step chosen with the pointer, or with the arrow keys while the chart has the focus. */
export function useCursor(steps: Step[], windowUs: number) {
  // A part of the width, so that the cursor stays where it is while time goes on.
  const [part, setPart] = useState<number | null>(null);
  const index = part === null || steps.length === 0 ? null : stepAt(steps, windowUs, part);
  const handlers = {
    onPointerMove: (event: PointerEvent<HTMLElement>) => {
      const box = event.currentTarget.getBoundingClientRect();
      setPart(Math.max(0, Math.min(1, (event.clientX - box.left) / Math.max(1, box.width))));
    },
    onPointerLeave: () => setPart(null),
    onBlur: () => setPart(null),
    onKeyDown: (event: KeyboardEvent<HTMLElement>) => {
      const moves: Record<string, (now: number) => number | null> = {
        ArrowLeft: (now) => now - KEY_STEP,
        ArrowRight: (now) => now + KEY_STEP,
        Home: () => 0,
        End: () => 1,
        Escape: () => null,
      };
      const move = moves[event.key];
      if (!move) return;
      event.preventDefault();
      const next = move(part ?? 1);
      setPart(next === null ? null : Math.max(0, Math.min(1, next)));
    },
  };
  return { part, step: index === null ? null : steps[index]!, handlers };
}

/** The values at the cursor, with a line through them. */
export function Cursor({ part, step, places = 0 }: { part: number | null; step: Step | null; places?: number }) {
  const value = (slots: number) => number(Number(slots.toFixed(places)));
  const text =
    step &&
    `${step.ago_us < 1e6 ? "now" : `${spoken(Math.round(step.ago_us / 1000 / (step.ago_us > 600e6 ? 60_000 : 1000)) * (step.ago_us > 600e6 ? 60_000 : 1000))} ago`}: ` +
      `${value(step.waiting)} waiting, ${value(step.executing)} executing, ${value(step.idle)} idle, ${value(step.coming)} coming`;
  return (
    <Box role="status" data-testid="cursor">
      {part === null || !text ? null : (
        <>
          <Box position="absolute" top="0" bottom="0" w="1px" bg="ink" style={{ left: `${part * 100}%` }} pointerEvents="none" />
          <Box
            position="absolute"
            top="2px"
            px="7px"
            py="1px"
            bg="sheet"
            color="ink"
            border="1px solid"
            borderColor="edge"
            borderRadius="3px"
            fontSize="12px"
            whiteSpace="nowrap"
            pointerEvents="none"
            zIndex="1"
            style={part < 0.5 ? { left: `calc(${part * 100}% + 6px)` } : { right: `calc(${(1 - part) * 100}% + 6px)` }}
          >
            {text}
          </Box>
        </>
      )}
    </Box>
  );
}

const KEYS: [string, string, string][] = [
  ["executing", "heather", "transparent"],
  ["idle", "mossWash", "transparent"],
  ["coming", "gritstoneWash", "transparent"],
  ["waiting", "brackenWash", "bracken"],
];

/** What the colours stand for. */
export function LevelKeys({ children }: { children?: ReactNode }) {
  return (
    <Flex as="span" gap="12px" wrap="wrap">
      {KEYS.map(([word, color, edge]) => (
        <Flex as="span" key={word} align="center" gap="5px">
          <Box as="span" w="12px" h="9px" bg={color} borderTop="2px solid" borderColor={edge} />
          {word}
        </Flex>
      ))}
      {children}
    </Flex>
  );
}

/** The same as a table, for those who do not see it. */
export function LevelTable({ steps, caption }: { steps: Step[]; caption: string }) {
  return (
    <Box srOnly>
      <table>
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
      </table>
    </Box>
  );
}
