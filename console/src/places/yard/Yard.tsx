// Yard: pools and their runners, and how a machine is added.
import { Box, Button, Flex, Input } from "@chakra-ui/react";
import { useState } from "react";
import { Link } from "react-router";
import type { Pool, Runner } from "../../api/client";
import { usePools, useRunners } from "../../api/hooks";
import { Lead } from "../../parts/answer";
import { Heading, List } from "../../parts/list";
import { RunnerMark } from "../../parts/mark";
import { Ago } from "../../parts/time";
import { Awaiting, Trouble } from "../../parts/trouble";
import { AddMachine } from "./AddMachine";
import { AddPool } from "./AddPool";

function lead(pools: Pool[]): string {
  if (pools.length === 0) return "There is no pool yet. A pool is a set of machines of one kind: make one to begin.";
  const free = pools.reduce((sum, pool) => sum + pool.free, 0);
  const slots = pools.reduce((sum, pool) => sum + pool.slots, 0);
  const away = pools.reduce((sum, pool) => sum + pool.runners.offline, 0);
  const said = `${free} of ${slots} ${slots === 1 ? "slot is" : "slots are"} free in ${pools.length} ${pools.length === 1 ? "pool" : "pools"}.`;
  if (away === 0) return said;
  return `${said} ${away} ${away === 1 ? "runner is" : "runners are"} offline.`;
}

/** Whether a runner has all the words: in its name, its pool, its state, its labels or its facts. */
function fits(runner: Runner, words: string[]): boolean {
  const facts = Object.entries(runner.facts).map(([name, value]) => `${name} ${value}`);
  const text = [runner.name, runner.short, runner.pool, runner.state, ...runner.labels, ...runner.pool_labels, ...facts]
    .join(" ")
    .toLowerCase();
  return words.every((word) => text.includes(word));
}

export default function Yard() {
  const pools = usePools();
  const runners = useRunners();
  const [adding, setAdding] = useState<"pool" | string | null>(null);
  const [filter, setFilter] = useState("");
  const error = pools.error ?? runners.error;
  if (!pools.data || !runners.data) return error ? <Trouble error={error} /> : <Awaiting what="the yard" />;
  const words = filter.toLowerCase().split(/\s+/).filter(Boolean);
  const shown = runners.data.items.filter((runner) => fits(runner, words));
  return (
    <>
      {error ? <Trouble error={error} /> : null}
      <Flex align="flex-start" gap="24px">
        <Box flex="1">
          <Lead>{lead(pools.data.items)}</Lead>
        </Box>
        <Input
          data-filter
          placeholder="Filter runners: name, label, fact"
          aria-label="Filter runners"
          size="sm"
          w="17em"
          bg="sheet"
          borderColor="rule"
          value={filter}
          onChange={(event) => setFilter(event.target.value)}
        />
        <Button size="sm" variant="outline" borderColor="rule" color="ink" onClick={() => setAdding("pool")}>
          Make a pool
        </Button>
      </Flex>
      {adding === "pool" ? <AddPool close={() => setAdding(null)} /> : null}
      {pools.data.items.map((pool) => (
        <Box key={pool.name} data-pool={pool.name}>
          <Heading
            beside={
              <>
                <Box color="quiet">
                  {[pool.description, pool.labels.join(", "), pool.open ? "" : "only jobs that ask for it"]
                    .filter(Boolean)
                    .join(" · ")}
                </Box>
                <Box color="quiet">
                  {pool.free} of {pool.slots} slots free
                </Box>
                <Button
                  size="xs"
                  variant="outline"
                  borderColor="rule"
                  color="ink"
                  onClick={() => setAdding(`machine ${pool.name}`)}
                >
                  Add a machine
                </Button>
              </>
            }
          >
            {pool.name}
          </Heading>
          {adding === `machine ${pool.name}` ? <AddMachine pool={pool.name} close={() => setAdding(null)} /> : null}
          <List
            rows={shown.filter((runner) => runner.pool === pool.name && runner.state !== "awaited")}
            id={(runner) => runner.id}
            empty={words.length > 0 ? "No runner here fits the filter." : "No machine has joined yet."}
            columns={[
              { head: "runner", cell: (runner) => <Link to={`/runners/${runner.short}`}>{runner.name}</Link>, width: "11em" },
              { head: "state", cell: (runner) => <RunnerMark state={runner.state} />, width: "8em" },
              { head: "slots", cell: (runner) => <Slots runner={runner} />, width: "10em" },
              {
                head: "executes",
                cell: (runner) =>
                  runner.executing.map((job) => (
                    <Box as="span" key={job.job} mr="10px">
                      <Link to={`/jobs/${job.job}`}>{job.job}</Link> {job.title}
                    </Box>
                  )),
              },
              { head: "labels", cell: (runner) => runner.labels.join(", ") },
              {
                head: "machine",
                cell: (runner) => `${runner.facts["os"] ?? ""} ${runner.facts["arch"] ?? ""}, ${runner.facts["cores"] ?? "?"} cores, ${runner.facts["mem"] ?? "?"}`,
              },
              { head: "since", cell: (runner) => <Ago at={runner.since} />, right: true },
            ]}
          />
        </Box>
      ))}
    </>
  );
}

/** A runner's slots as bars: filled while taken. */
function Slots({ runner }: { runner: Runner }) {
  const most = 16;
  const taken = Math.min(runner.used, most);
  return (
    <Flex align="center" gap="3px" title={`${runner.used} of ${runner.slots} slots taken`}>
      {Array.from({ length: Math.min(runner.slots, most) }, (_, i) => (
        <Box
          key={i}
          w="10px"
          h="14px"
          border="1px solid"
          borderColor={i < taken ? "heather" : "gritstone"}
          bg={i < taken ? "heather" : "transparent"}
        />
      ))}
      <Box as="span" color="quiet" ml="5px">
        {runner.used} of {runner.slots}
      </Box>
    </Flex>
  );
}
