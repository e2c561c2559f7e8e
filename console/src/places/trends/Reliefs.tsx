// Each pool's relief over the window, small, one under the other: demand (who executed and who waited for it) over capacity
// (what executed and what stood idle), on average in each step.
import { Box, Flex } from "@chakra-ui/react";
import { Link } from "react-router";
import type { Trends } from "../../api/client";
import { usePools, usePoolTrends } from "../../api/hooks";
import { Cursor, LevelTable, Terraces, WIDTH, capacity, demand, topOf, useCursor } from "../../parts/terraces";
import type { Step } from "../../parts/terraces";
import { Awaiting, Trouble } from "../../parts/trouble";
import type { Asked } from "./asked";
import { Shown } from "./Shown";

/** Pools that are drawn: those whose jobs waited longest in all. */
const DRAWN = 8;
const HEIGHT = 54;
/** How many times a pool's capacity the drawing reaches. */
const PEAK = 3;

/** A step's slots, on average over it. The step that goes on is only as long as it has gone on. */
function levels(trends: Trends): Step[] {
  const now = Math.min(Date.parse(trends.until), Date.now());
  return trends.steps
    .filter((step) => Date.parse(step.at) < now)
    .map(({ at, figures }) => {
      const begun = Date.parse(at);
      const length = Math.max(1, Math.min(trends.step_us, (now - begun) * 1000));
      const waiting = Object.values(figures.waiting_us).reduce((sum, micros) => sum + micros, 0);
      const busy = figures.busy_us / length;
      return {
        ago_us: (Date.parse(trends.until) - begun) * 1000,
        waiting: waiting / length,
        executing: busy,
        idle: Math.max(0, (figures.offered_us ?? 0) / length - busy),
        coming: 0,
      };
    });
}

export function Reliefs({ asked }: { asked: Asked }) {
  const pools = usePools();
  const names = (pools.data?.items ?? []).map((pool) => pool.name);
  const answers = usePoolTrends(names, asked.base);
  const waited = (data: Trends) => data.whole.wait.sum_us;
  const known = names
    .flatMap((name, i) => (answers[i]?.data ? [{ name, data: answers[i].data }] : []))
    .sort((a, b) => waited(b.data) - waited(a.data));
  const error = pools.error ?? answers.find((answer) => answer.error)?.error;
  return (
    <>
      <Shown
        title="Demand and capacity by pool, in slots"
        file="relief.csv"
        rows={() => [
          ["from", "pool", "waiting", "executing", "idle"],
          ...known.flatMap(({ name, data }) =>
            levels(data).map((step, i) => [
              data.steps[i]?.at ?? "",
              name,
              ...[step.waiting, step.executing, step.idle].map((slots) => Number(slots.toFixed(3))),
            ]),
          ),
        ]}
        chart={
          <Box data-testid="reliefs">
            {known.slice(0, DRAWN).map(({ name, data }) => (
              <Pool key={name} name={name} data={data} />
            ))}
          </Box>
        }
      />
      {error ? <Trouble error={error} /> : null}
      {!error && known.length < names.length ? <Awaiting what="the pools' figures" /> : null}
      {known.length > DRAWN ? (
        <Box color="quiet" fontSize="13px">
          The {DRAWN} pools with the longest waits, of {known.length}.
        </Box>
      ) : null}
    </>
  );
}

function Pool({ name, data }: { name: string; data: Trends }) {
  const steps = levels(data);
  const windowUs = (Date.parse(data.until) - Date.parse(data.from)) * 1000;
  const cursor = useCursor(steps, windowUs);
  const [most, high] = [Math.max(0, ...steps.map(demand)), Math.max(0, ...steps.map(capacity))];
  // A rare peak is cut off, so that the other days can be read.
  const top = Math.max(2, Math.min(topOf(steps), PEAK * high));
  const y = (slots: number) => HEIGHT - (Math.min(slots, top) / top) * (HEIGHT - 4);
  const number = (slots: number) => slots.toFixed(slots < 10 ? 1 : 0);
  const label = `${name}: demand up to ${number(most)} slots, capacity up to ${number(high)}, averaged over each step`;
  return (
    <Flex gap="14px" align="center" mb="6px">
      <Box w="12em" flex="none" lineHeight="1.3">
        <Link to={`/pools/${encodeURIComponent(name)}`}>{name}</Link>
        <Box color="quiet" fontSize="12px">
          demand up to {number(most)}
          {most > top ? ` (scale ends at ${number(top)})` : ""}
          <br />
          capacity up to {number(high)}
        </Box>
      </Box>
      <Box
        flex="1"
        minW="0"
        bg="hollow"
        position="relative"
        h={`${HEIGHT}px`}
        css={{ "& svg": { display: "block" } }}
        tabIndex={0}
        role="group"
        aria-label={`Chart of ${name}. Arrow keys show earlier values.`}
        {...cursor.handlers}
      >
        <Cursor part={cursor.part} step={cursor.step} places={1} />
        <svg width="100%" height={HEIGHT} viewBox={`0 0 ${WIDTH} ${HEIGHT}`} preserveAspectRatio="none" role="img" aria-label={label}>
          <title>{label}</title>
          <Terraces steps={steps} windowUs={windowUs} y={y} ground={HEIGHT} />
        </svg>
        <LevelTable steps={steps} caption={label} />
      </Box>
    </Flex>
  );
}
