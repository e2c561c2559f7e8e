// A pool's relief: the skyline's drawing, large, with the ceiling, what was decided, and the money below.
import { Box, Flex } from "@chakra-ui/react";
import type { Relief as ReliefData } from "../../api/client";
import { useMoney } from "../../parts/money";
import { Cursor, LevelKeys, LevelTable, Terraces, WIDTH, across, topOf, useCursor } from "../../parts/terraces";
import { spoken } from "../../parts/time";

const HEIGHT = 210;
const MARKS = 20;
const MONEY = 44;

/** What a mark below the ground means: up for more machines, down for fewer, a bar for what is held back. */
const SIGNS: Record<string, { path: string; tone: string; word: string }> = {
  order: { path: "M0 6 6 6 3 0z", tone: "moss", word: "ordered" },
  probe: { path: "M0 6 6 6 3 0z", tone: "moss", word: "ordered" },
  release: { path: "M0 0 6 0 3 6z", tone: "gritstone", word: "released" },
  drain: { path: "M0 0 6 0 3 6z", tone: "gritstone", word: "released" },
  "give-up": { path: "M0 0 6 6M6 0 0 6", tone: "rust", word: "stopped trying" },
  "hold-back": { path: "M0 2h6v2h-6z", tone: "rust", word: "could not order" },
};

/** Round numbers up to the top: three or four of them. */
function ticks(top: number): number[] {
  const step = Math.max(1, Math.ceil(top / 4));
  return Array.from({ length: Math.floor(top / step) + 1 }, (_, i) => i * step);
}

export function Relief({ relief }: { relief: ReliefData }) {
  const { steps, window_us: windowUs } = relief;
  const money = useMoney();
  const cursor = useCursor(steps, windowUs);
  const ceiling = relief.ceiling_slots ?? undefined;
  const top = Math.max(topOf(steps), Math.min(ceiling ?? 0, 3 * topOf(steps)));
  const y = (slots: number) => HEIGHT - (slots / top) * (HEIGHT - 12);
  const nowMs = Date.parse(relief.now);
  const marks = relief.decisions
    .map((one) => ({ one, sign: SIGNS[one.verb], x: across((nowMs - Date.parse(one.at)) * 1000, windowUs) }))
    .filter(({ sign, x }) => sign && x >= 0);
  const dearest = Math.max(1, ...relief.cost);
  const spent = relief.cost.reduce((sum, one) => sum + one, 0);
  const minutes = windowUs / 60e6;
  const label = `${relief.answer} Machine cost of the last ${spoken(windowUs / 1000)}: ${money(spent)}.`;
  return (
    <Box position="relative" overflow="hidden">
      <Flex gap="8px">
        <Box position="relative" w="30px" flex="none" h={`${HEIGHT}px`} color="quiet" fontSize="12px" aria-hidden="true">
          {ticks(top).map((tick) => (
            <Box key={tick} position="absolute" right="2px" top={`${y(tick) - 9}px`}>
              {tick}
            </Box>
          ))}
        </Box>
        <Box
          flex="1"
          minW="0"
          position="relative"
          bg="hollow"
          css={{ "& svg": { display: "block" } }}
          tabIndex={0}
          role="group"
          aria-label="Chart of demand and capacity. Arrow keys show earlier values."
          {...cursor.handlers}
        >
          <Cursor part={cursor.part} step={cursor.step} />
          <svg
            width="100%"
            height={HEIGHT + MARKS + MONEY}
            viewBox={`0 0 ${WIDTH} ${HEIGHT + MARKS + MONEY}`}
            preserveAspectRatio="none"
            role="img"
            aria-label={label}
            data-testid="relief"
          >
            <title>{label}</title>
            <Terraces steps={steps} windowUs={windowUs} y={y} ground={HEIGHT} />
            {ceiling !== undefined && ceiling <= top ? (
              <Box asChild color="ink">
                <path
                  d={`M0 ${y(ceiling)}H${WIDTH}`}
                  stroke="currentColor"
                  strokeDasharray="6 5"
                  vectorEffect="non-scaling-stroke"
                />
              </Box>
            ) : null}
            <Box asChild color="rule">
              <path d={`M0 ${HEIGHT}H${WIDTH}M0 ${HEIGHT + MARKS}H${WIDTH}`} stroke="currentColor" vectorEffect="non-scaling-stroke" />
            </Box>
            {marks.map(({ one, sign, x }) => (
              <Box asChild color={sign!.tone} key={`${one.at} ${one.message}`}>
                <g transform={`translate(${(x - 4).toFixed(1)} ${HEIGHT + 7}) scale(1.35)`} data-testid="decision-mark">
                  <title>{one.message}</title>
                  <path d={sign!.path} fill={one.verb === "give-up" ? "none" : "currentColor"} stroke="currentColor" />
                </g>
              </Box>
            ))}
            <Box asChild color="bracken">
              <path
                d={relief.cost
                  .map((cost, i) => {
                    const left = (WIDTH * i) / relief.cost.length;
                    const high = (cost / dearest) * (MONEY - 8);
                    return `M${left.toFixed(1)} ${HEIGHT + MARKS + MONEY}v${(-high).toFixed(1)}h${(WIDTH / relief.cost.length).toFixed(1)}V${HEIGHT + MARKS + MONEY}z`;
                  })
                  .join("")}
                fill="currentColor"
                opacity="0.75"
              />
            </Box>
          </svg>
        </Box>
      </Flex>
      <Flex justify="space-between" ml="38px" color="quiet" fontSize="12px">
        {[1, 0.75, 0.5, 0.25, 0].map((part) => (
          <span key={part}>{part === 0 ? "now" : `${spoken(minutes * part * 60_000)} ago`}</span>
        ))}
      </Flex>
      <Flex ml="38px" mt="4px" gap="16px" wrap="wrap" color="quiet" fontSize="13px">
        <LevelKeys />
        {ceiling === undefined ? null : (
          <>
            <span>- - ceiling ({ceiling} slots)</span>
            <span>▲ ordered ▼ released ✕ stopped trying ▬ could not order</span>
            <Key color="bracken">
              bars: cost of machines, at most {money(dearest)} each; {money(spent)} in this period, {money(relief.spent_day)} today, {money(relief.spent_month)}{" "}
              this month
            </Key>
          </>
        )}
      </Flex>
      <LevelTable steps={steps} caption={label} />
    </Box>
  );
}

function Key({ color, children }: { color: string; children: React.ReactNode }) {
  return (
    <Flex as="span" align="center" gap="6px">
      <Box as="span" w="14px" h="10px" bg={color} />
      <span>{children}</span>
    </Flex>
  );
}
