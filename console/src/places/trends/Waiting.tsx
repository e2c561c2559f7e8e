// How many waited, for what, over time; a step of it leads to the jobs behind it.
import { Box, Flex } from "@chakra-ui/react";
import { Bar, BarChart, CartesianGrid, ResponsiveContainer, Tooltip, XAxis, YAxis } from "recharts";
import type { Reason, Trends } from "../../api/client";
import { number } from "../../parts/count";
import { micros } from "../../parts/time";
import { REASONS, css } from "./reasons";

type Step = Trends["steps"][number];

/** Jobs that waited in a step for a reason, on average over the step. */
const mean = (step: Step, reason: Reason, stepUs: number) => (step.figures.waiting_us[reason] ?? 0) / stepUs;

const day = new Intl.DateTimeFormat(undefined, { weekday: "short", day: "numeric", month: "short" });
const hour = new Intl.DateTimeFormat(undefined, { hour: "2-digit", minute: "2-digit" });
const both = new Intl.DateTimeFormat(undefined, { weekday: "short", day: "numeric", month: "short", hour: "2-digit", minute: "2-digit" });

export const when = (at: string) => both.format(Date.parse(at));

export function stepEnd(trends: Trends, step: Step): string {
  const end = Math.min(Date.parse(step.at) + trends.step_us / 1000, Date.parse(trends.until));
  return new Date(end).toISOString();
}

/** The first step of each day, or every few hours where the window is short; the first one only where it has room before the next. */
export function marks(trends: Pick<Trends, "step_us" | "steps">): string[] {
  const short = trends.step_us < 3600e6;
  let last = "";
  const all = trends.steps.filter((step) => {
    const at = new Date(step.at);
    const mark = short ? `${at.toDateString()} ${Math.floor(at.getHours() / 3)}` : at.toDateString();
    const first = mark !== last;
    last = mark;
    return first;
  });
  const every = Math.ceil(all.length / 10);
  const shown = all.filter((_, i) => i % every === 0).map((step) => step.at);
  const [first, second, third] = shown.map((at) => Date.parse(at));
  const isTight = first !== undefined && second !== undefined && third !== undefined && second - first < 0.75 * (third - second);
  return isTight ? shown.slice(1) : shown;
}

export function Waiting({ trends, chosen, choose }: {
  trends: Trends;
  chosen: string | null;
  choose: (step: Step) => void;
}) {
  const rows = trends.steps.map((step) => ({
    at: step.at,
    step,
    ...Object.fromEntries(REASONS.map(({ reason }) => [reason, mean(step, reason, trends.step_us)])),
  }));
  const used = REASONS.filter(({ reason }) => trends.whole.waiting_us[reason]);
  const short = trends.step_us < 3600e6;
  return (
    <Box>
      <Box h="220px" bg="hollow" data-testid="waiting-chart" role="img" aria-label={`Jobs waiting by reason. ${trends.answer}`}>
        <ResponsiveContainer width="100%" height="100%">
          <BarChart
            data={rows}
            barCategoryGap={0}
            margin={{ top: 10, right: 40, bottom: 0, left: 0 }}
            onClick={(state) => {
              const row = rows[Number(state.activeTooltipIndex)];
              if (row) choose(row.step);
            }}
          >
            <CartesianGrid vertical={false} stroke={css("rule")} strokeDasharray="2 4" />
            <XAxis
              dataKey="at"
              ticks={marks(trends)}
              tickFormatter={(at: string) => (short ? hour : day).format(Date.parse(at))}
              stroke={css("quiet")}
              fontSize={12}
              interval={0}
            />
            <YAxis
              width={56}
              stroke={css("quiet")}
              fontSize={12}
              allowDecimals
              tickFormatter={(jobs: number) => number(jobs)}
              label={{ value: "jobs waiting", angle: -90, position: "insideLeft", fill: css("quiet"), fontSize: 12, dx: 4, dy: 34 }}
            />
            <Tooltip cursor={{ fill: css("rule"), opacity: 0.5 }} isAnimationActive={false} content={<Said stepUs={trends.step_us} />} />
            {used.map(({ reason, tone }) => (
              <Bar key={reason} dataKey={reason} stackId="waiting" fill={css(tone)} isAnimationActive={false} />
            ))}
          </BarChart>
        </ResponsiveContainer>
      </Box>
      <Flex gap="16px" wrap="wrap" mt="6px" color="quiet" fontSize="13px">
        {used.map(({ reason, tone, said }) => (
          <Flex as="span" key={reason} align="center" gap="6px" title={said}>
            <Box as="span" w="14px" h="10px" bg={tone} />
            <span>
              {reason} {micros(trends.whole.waiting_us[reason] ?? 0)}
            </span>
          </Flex>
        ))}
        {used.length === 0 ? <span>No jobs waited in this period.</span> : null}
        {chosen ? null : used.length > 0 ? <span>Select a time in the chart to see its jobs.</span> : null}
      </Flex>
    </Box>
  );
}

function Said({ active, payload, stepUs }: { active?: boolean; payload?: { payload?: { step?: Step } }[]; stepUs: number }) {
  const step = payload?.[0]?.payload?.step;
  if (!active || !step) return null;
  const wait = step.figures.wait;
  return (
    <Box bg="sheet" border="1px solid" borderColor="rule" p="8px 10px" fontSize="13px">
      <Box fontWeight="600">{when(step.at)}</Box>
      {REASONS.filter(({ reason }) => step.figures.waiting_us[reason]).map(({ reason, tone }) => (
        <Flex key={reason} align="center" gap="6px">
          <Box w="10px" h="10px" bg={tone} />
          {mean(step, reason, stepUs).toFixed(2)} waiting: {reason}
        </Flex>
      ))}
      <Box color="quiet">
        {wait.count} became ready{wait.p95 ? `; p95 ${micros(wait.p95.value_us)}` : ""}
      </Box>
    </Box>
  );
}

/** What the chart shows: its highest step, and what most waited for then. */
export function peak(trends: Trends): string {
  const all = (step: Step) => REASONS.reduce((sum, { reason }) => sum + mean(step, reason, trends.step_us), 0);
  const highest = trends.steps.reduce<Step | undefined>((best, step) => (best && all(best) >= all(step) ? best : step), undefined);
  if (!highest || all(highest) < 0.05) return "Waiting jobs by reason: none";
  const most = REASONS.reduce((best, one) =>
    mean(highest, one.reason, trends.step_us) > mean(highest, best.reason, trends.step_us) ? one : best,
  );
  return `Waiting jobs by reason: most on ${when(highest.at)}, ${number(Number(all(highest).toFixed(1)))} on average, mainly ${most.reason}`;
}

/** The chart as rows, for the table and the file. */
export function waitingRows(trends: Trends): (string | number)[][] {
  const heads = ["from", "became ready", "p50 us", "p95 us", ...REASONS.map(({ reason }) => `${reason} us`)];
  const rows = trends.steps.map((step) => [
    step.at,
    step.figures.wait.count,
    step.figures.wait.p50?.value_us ?? "",
    step.figures.wait.p95?.value_us ?? "",
    ...REASONS.map(({ reason }) => step.figures.waiting_us[reason] ?? 0),
  ]);
  return [heads, ...rows];
}
