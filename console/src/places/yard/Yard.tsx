// Yard: pools and their runners, what each did over the last hours, and what can be done to many of them at once.
import { Box, Button, Flex } from "@chakra-ui/react";
import { useWindowVirtualizer } from "@tanstack/react-virtual";
import { Suspense, lazy, memo, useCallback, useLayoutEffect, useMemo, useRef, useState } from "react";
import { Link } from "react-router";
import type { Maintenance, Pool, Runner } from "../../api/client";
import { useFittingRunners, useMaintenance, usePools, useRunnerTime, useYard } from "../../api/hooks";
import { useMay } from "../../api/may";
import { useTheme } from "../../app/theme";
import { Lead } from "../../parts/answer";
import { RunnerMark } from "../../parts/mark";
import { SearchBox, useSearch } from "../../parts/search";
import { Since, Until, useNow } from "../../parts/time";
import { Awaiting, Trouble } from "../../parts/trouble";
import { Bulk } from "./Bulk";
import { Hours, Legend, Strip } from "./Strip";

const AddMachine = lazy(() => import("./AddMachine").then(({ AddMachine }) => ({ default: AddMachine })));
const AddPool = lazy(() => import("./AddPool").then(({ AddPool }) => ({ default: AddPool })));

/** What is being added: a machine to a pool, or a pool. */
type Adding = { pool: string | null };

/** How much time a strip shows. */
const HOURS = 12;
const WIDTH = 260;
const ROW = 32;
const HEAD = 78;
/** Lines whose strips are asked for together. */
const BLOCK = 60;
/** Lines that are drawn above and below those in sight. */
const BEYOND = 6;

const STATES: Runner["state"][] = ["available", "busy", "draining", "paused", "offline", "awaited"];

function lead(pools: Pool[]): string {
  if (pools.length === 0) return "No pools yet. A pool is a set of machines of one kind. Add a pool to begin.";
  const free = pools.reduce((sum, pool) => sum + pool.free, 0);
  const slots = pools.reduce((sum, pool) => sum + pool.slots, 0);
  const away = pools.reduce((sum, pool) => sum + pool.runners.offline, 0);
  const said = `${free} of ${slots} ${slots === 1 ? "slot is" : "slots are"} free in ${pools.length} ${pools.length === 1 ? "pool" : "pools"}.`;
  if (away === 0) return said;
  return `${said} ${away} ${away === 1 ? "runner is" : "runners are"} offline.`;
}

/** A set with one more, or one fewer if it was in it. */
function toggle<T>(set: ReadonlySet<T>, one: T): ReadonlySet<T> {
  const next = new Set(set);
  if (!next.delete(one)) next.add(one);
  return next;
}

const NONE: Maintenance[] = [];

type Line = { pool: Pool; runner?: Runner; empty?: boolean };

export default function Yard() {
  const pools = usePools();
  const runners = useYard();
  const maintenance = useMaintenance();
  const [adding, setAdding] = useState<Adding | null>(null);
  const [states, setStates] = useState<ReadonlySet<Runner["state"]>>(new Set());
  const [chosen, setChosen] = useState<ReadonlySet<string>>(new Set());
  const may = useMay();
  const filter = useSearch();
  const addMachine = useCallback((pool: string) => setAdding({ pool }), []);
  const fitting = useFittingRunners(filter);
  const all = runners.data?.items;
  const choose = useCallback((id: string) => setChosen((chosen) => toggle(chosen, id)), []);

  const shown = useMemo(() => {
    const low = filter.toLowerCase();
    const named = (runner: Runner) => runner.name.toLowerCase().includes(low) || runner.short === low;
    const fits = (runner: Runner) => low === "" || named(runner) || (fitting.data?.has(runner.id) ?? false);
    return (all ?? []).filter((runner) => fits(runner) && (states.size === 0 || states.has(runner.state)));
  }, [all, filter, fitting.data, states]);

  const lines = useMemo(() => {
    const lines: Line[] = [];
    const narrowed = filter !== "" || states.size > 0;
    for (const pool of pools.data?.items ?? []) {
      const mine = shown.filter((runner) => runner.pool === pool.name);
      if (narrowed && mine.length === 0) continue;
      lines.push({ pool });
      if (mine.length === 0) lines.push({ pool, empty: true });
      // Awaited runners are listed last.
      mine.sort((a, b) => Number(a.state === "awaited") - Number(b.state === "awaited"));
      for (const runner of mine) lines.push({ pool, runner });
    }
    return lines;
  }, [pools.data, shown, filter, states]);

  const error = pools.error ?? runners.error;
  if (!pools.data || !all) return error ? <Trouble error={error} /> : <Awaiting what="the yard" />;
  const counts = (state: Runner["state"]) => all.filter((runner) => runner.state === state).length;
  const picked = all.filter((runner) => chosen.has(runner.id));
  return (
    <>
      {error ? <Trouble error={error} /> : null}
      <Flex align="flex-start" columnGap="24px" rowGap="10px" wrap="wrap">
        <Box flex="1" minW={{ base: "100%", md: "20em" }}>
          <Lead>{lead(pools.data.items)}</Lead>
        </Box>
        <SearchBox label="Search runners" placeholder="Name or requirement: gcc >= 12 and not bench" width="27em" />
        {may("operator") ? (
          <Button size="sm" onClick={() => setAdding({ pool: null })}>
            Add a pool
          </Button>
        ) : null}
      </Flex>
      {fitting.error && shown.length === 0 ? <Trouble error={fitting.error} /> : null}
      <Flex gap="8px" mt="10px" align="center" wrap="wrap">
        {STATES.filter((state) => counts(state) > 0).map((state) => (
          <Button
            key={state}
            aria-pressed={states.has(state)}
            onClick={() => setStates(toggle(states, state))}
          >
            <RunnerMark state={state} /> {counts(state)}
          </Button>
        ))}
        <Box flex="1" />
        <Legend />
      </Flex>
      {adding ? (
        <Suspense fallback={<Awaiting what="the form" />}>
          {adding.pool === null ? (
            <AddPool close={() => setAdding(null)} />
          ) : (
            <AddMachine pool={adding.pool} close={() => setAdding(null)} />
          )}
        </Suspense>
      ) : null}
      {picked.length > 0 ? <Bulk runners={picked} done={() => setChosen(new Set())} /> : null}
      {lines.length === 0 && pools.data.items.length > 0 ? (
        <Box color="quiet" py="18px">
          No runners match. Shorten or clear the search.
        </Box>
      ) : null}
      <Box css={LINE} mt="8px" overflowX={{ base: "auto", lg: "visible" }}>
      <Lines
        lines={lines}
        addMachine={addMachine}
        chosen={chosen}
        choose={may("operator") ? choose : undefined}
        windows={maintenance.data?.items ?? NONE}
      />
      </Box>
    </>
  );
}

const PLACED = { position: "absolute", left: 0, right: 0, top: 0 } as const;

type LinesProps = {
  lines: Line[];
  addMachine: (pool: string) => void;
  chosen: ReadonlySet<string>;
  choose: ((id: string) => void) | undefined;
  windows: Maintenance[];
};

/** The lines that can be seen, of however many there are. */
function Lines({ lines, addMachine, chosen, choose, windows }: LinesProps) {
  const list = useRef<HTMLDivElement>(null);
  // As many lines are drawn wherever the page is scrolled to, so that a line that leaves at one end is used again for the runner that
  // comes at the other: making one is slow.
  const drawn = Math.ceil(window.innerHeight / ROW) + 1 + 2 * BEYOND;
  const virtual = useWindowVirtualizer({
    count: lines.length,
    estimateSize: (i) => (lines[i]?.runner || lines[i]?.empty ? ROW : HEAD),
    rangeExtractor: ({ startIndex, count }) => {
      const first = Math.max(0, Math.min(startIndex - BEYOND, count - drawn));
      return Array.from({ length: Math.min(drawn, count) }, (_, i) => first + i);
    },
    scrollMargin: list.current?.offsetTop ?? 0,
    getItemKey: (i) => {
      const line = lines[i];
      return line?.runner?.id ?? `${line?.pool.name} ${line?.empty ? "empty" : "head"}`;
    },
  });
  const items = virtual.getVirtualItems();
  // Asked for block by block, so that the questions stay the same while the page is scrolled a little.
  const blocks = [...new Set(items.map((item) => Math.floor(item.index / BLOCK)))];
  const inBlock = (block: number) =>
    lines.slice(block * BLOCK, (block + 1) * BLOCK).flatMap(({ runner }) => (runner && runner.state !== "awaited" ? [runner.id] : []));
  const times = useRunnerTime(blocks.map(inBlock), HOURS);
  // Strips advance once a minute: a smaller step would not be visible.
  const until = Math.ceil(useNow() / 60_000) * 60_000;
  const from = until - HOURS * 3_600_000;
  const theme = useTheme();
  return (
    <div ref={list} style={{ position: "relative", height: virtual.getTotalSize() }} role="list" aria-label="Pools and their runners">
      {items.map((item) => {
        const line = lines[item.index];
        if (!line) return null;
        const { pool, runner } = line;
        return (
          <div
            key={runner ? item.index % drawn : item.key}
            // Only a pool's head changes its height: it wraps where there is little room.
            ref={runner || line.empty ? undefined : virtual.measureElement}
            data-index={item.index}
            data-pool={runner || line.empty ? undefined : pool.name}
            role="listitem"
            aria-setsize={lines.length}
            aria-posinset={item.index + 1}
            style={{ ...PLACED, transform: `translateY(${item.start - virtual.options.scrollMargin}px)` }}
          >
            {runner ? (
              <RunnerLine
                runner={runner}
                theme={theme}
                time={times.get(runner.id)}
                from={from}
                until={until}
                chosen={chosen.has(runner.id)}
                choose={choose}
                window={windows.find((one) => one.runner === runner.name)}
              />
            ) : line.empty ? (
              <Box color="quiet" h={`${ROW}px`} pt="5px">
                No machines have joined yet.
              </Box>
            ) : (
              <PoolHead
                pool={pool}
                addMachine={addMachine}
                from={from}
                until={until}
                window={windows.find((one) => one.pool === pool.name)}
              />
            )}
          </div>
        );
      })}
    </div>
  );
}

const GRID = `22px minmax(120px, 1.1fr) 110px ${WIDTH}px 64px minmax(170px, 2fr) minmax(90px, 0.8fr) 96px`;

type HeadProps = {
  pool: Pool;
  addMachine: (pool: string) => void;
  from: number;
  until: number;
  window: Maintenance | undefined;
};

function PoolHead({ pool, addMachine, from, until, window }: HeadProps) {
  const may = useMay();
  const about = [pool.description, pool.labels.join(", "), pool.open ? "" : "only jobs that require it"];
  return (
    <Box>
      <Flex align="baseline" columnGap="16px" rowGap="4px" pt="20px" pb="4px" wrap="wrap">
        <Box as="h2" fontSize="16px" fontWeight="600">
          <Link to={`/pools/${pool.name}`}>{pool.name}</Link>
        </Box>
        <Box color="quiet">{about.filter(Boolean).join(" · ")}</Box>
        <Box color="quiet">
          {pool.free} of {pool.slots} slots free
        </Box>
        {pool.paused ? <Box color="rust">paused: accepts no jobs</Box> : null}
        {window ? (
          <Box color={window.on ? "rust" : "bracken"} title={`${window.name}, scheduled by ${window.by}`}>
            maintenance {window.on ? "ends " : "begins "}
            <Until at={window.on ? window.until : window.from} />: {window.reason}
          </Box>
        ) : null}
        {may("operator", pool.owner) ? (
          <Button onClick={() => addMachine(pool.name)} aria-label={`Add a machine to ${pool.name}`}>
            Add a machine
          </Button>
        ) : null}
      </Flex>
      <Box
        display="grid"
        gridTemplateColumns={GRID}
        columnGap="14px"
        fontSize="13px"
        color="quiet"
        borderBottom="1px solid"
        borderColor="rule"
        h="22px"
      >
        <span />
        <span>runner</span>
        <span>state</span>
        <Hours from={from} until={until} width={WIDTH} />
        <span>slots</span>
        <span>executes</span>
        <span>labels</span>
        <Box as="span" textAlign="right">
          for
        </Box>
      </Box>
    </Box>
  );
}

type LineProps = {
  theme: string;
  runner: Runner;
  time: Parameters<typeof Strip>[0]["time"];
  from: number;
  until: number;
  chosen: boolean;
  /** Missing where there is nothing that may be done to many runners. */
  choose: ((id: string) => void) | undefined;
  window: Maintenance | undefined;
};

const RunnerLine = memo(function RunnerLine({ runner, theme, time, from, until, chosen, choose, window }: LineProps) {
  const awaited = runner.state === "awaited";
  const line = useRef<HTMLDivElement>(null);
  // A line that is used again for another runner must not keep the keyboard's focus: a key would act on a runner that was not meant.
  useLayoutEffect(
    () => () => {
      const focused = document.activeElement;
      if (focused instanceof HTMLElement && line.current?.contains(focused)) focused.blur();
    },
    [runner.id],
  );
  // Plain elements, styled from around them: a page is scrolled through thousands of these.
  return (
    <div ref={line} className={chosen ? "line chosen" : "line"}>
      {awaited || !choose ? (
        <span />
      ) : (
        <input type="checkbox" aria-label={`Choose ${runner.name}`} checked={chosen} onChange={() => choose(runner.id)} />
      )}
      <span className="cut">
        <Link to={`/runners/${runner.short}`}>{runner.name}</Link>
      </span>
      <RunnerMark state={runner.state} />
      {awaited ? (
        <span className="quiet">ticket issued</span>
      ) : (
        <Strip theme={theme} time={time} from={from} until={until} width={WIDTH} height={24} />
      )}
      <span className="quiet">{awaited ? "" : `${runner.used} of ${runner.slots}`}</span>
      <span className="cut" title={runner.executing.map((job) => `${job.job} ${job.title} of ${job.project}`).join("\n")}>
        {window ? (
          <span className={window.on ? "now" : "soon"}>
            maintenance {window.on ? "ends " : ""}
            <Until at={window.on ? window.until : window.from} />: {window.reason}
          </span>
        ) : null}
        {runner.executing.map((job) => (
          <span key={job.job} className="job">
            <Link to={`/jobs/${job.job}`}>{job.job}</Link> {job.title}
          </span>
        ))}
      </span>
      <span className="cut quiet" title={runner.labels.join(", ")}>
        {runner.labels.join(", ")}
      </span>
      <span className="right" title={runner.reason}>
        <Since at={runner.since} />
      </span>
    </div>
  );
});

const LINE = {
  "& .line": {
    display: "grid",
    gridTemplateColumns: GRID,
    columnGap: "14px",
    alignItems: "center",
    height: `${ROW}px`,
    borderBottom: "1px solid {colors.hollow}",
    fontVariantNumeric: "tabular-nums",
  },
  "& .line:hover, & .chosen": { background: "{colors.hollow}" },
  "& .cut": { overflow: "hidden", textOverflow: "ellipsis", whiteSpace: "nowrap" },
  "& .quiet": { color: "{colors.quiet}" },
  "& .now": { color: "{colors.rust}", marginRight: "10px" },
  "& .soon": { color: "{colors.bracken}", marginRight: "10px" },
  "& .job": { marginRight: "10px" },
  "& .right": { textAlign: "right", whiteSpace: "nowrap" },
};
