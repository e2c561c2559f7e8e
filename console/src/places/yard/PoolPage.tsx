// A pool: its demand over its capacity, what was decided about its machines and why, the machines, and its policy, which can
// be tried before it is changed.
import { Box, Button, Flex } from "@chakra-ui/react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import { patch, post } from "../../api/client";
import type { ChangedPool, Machine, Page, Pool } from "../../api/client";
import { useDecisions, useMachines, usePool, useRelief } from "../../api/hooks";
import { useMay } from "../../api/may";
import { Lead } from "../../parts/answer";
import { KeptInFile } from "../../parts/kept";
import { Heading, List } from "../../parts/list";
import { MachineMark } from "../../parts/mark";
import { useMoney } from "../../parts/money";
import { SearchBox, contains, useSearch } from "../../parts/search";
import { Ago, Since, micros } from "../../parts/time";
import { Awaiting, Trouble } from "../../parts/trouble";
import { AddMachine } from "./AddMachine";
import { Approvals } from "./Approvals";
import { JobPolicy } from "./JobPolicy";
import { PoolPolicy } from "./PoolPolicy";
import { Relief } from "./Relief";

const WINDOWS: [number, string][] = [
  [10, "10 min"],
  [60, "1 h"],
  [360, "6 h"],
  [1440, "1 d"],
  [10_080, "7 d"],
];

export default function PoolPage() {
  const { pool: name = "" } = useParams();
  const { data: pool, error } = usePool(name);
  // In the address, so that a link shows what was seen.
  const [asked, setAsked] = useSearchParams();
  const known = WINDOWS.find(([length]) => String(length) === asked.get("minutes"));
  const minutes = known?.[0] ?? 60;
  const relief = useRelief(name, minutes);
  if (!pool) return error ? <Trouble error={error} /> : <Awaiting what="the pool" />;
  return (
    <>
      <Lead>{relief.data?.answer ?? `${pool.name}: ${pool.free} of ${pool.slots} slots are free.`}</Lead>
      <Flex gap="22px" mt="8px" color="quiet" wrap="wrap">
        {pool.description ? <span>{pool.description}</span> : null}
        <span>{pool.owner ? `of ${pool.owner}` : "for all teams"}</span>
        <span>{pool.labels.join(", ") || "no labels"}</span>
        {pool.paused ? <Box color="rust">paused</Box> : null}
        <Link to="/yard">runners in the yard</Link>
        <Link to={`/trends?${new URLSearchParams({ pool: pool.name })}`}>trends</Link>
        <KeptInFile kind="pool" name={pool.name} />
      </Flex>
      <Heading
        beside={
          <Flex gap="6px" role="group" aria-label="Period">
            {WINDOWS.map(([length, word]) => (
              <Button
                key={length}
                aria-pressed={minutes === length}
                onClick={() =>
                  setAsked(
                    (now) => {
                      now.set("minutes", String(length));
                      return now;
                    },
                    { replace: true },
                  )
                }
              >
                {word}
              </Button>
            ))}
          </Flex>
        }
      >
        Demand and capacity, in slots
      </Heading>
      {relief.data ? <Relief relief={relief.data} /> : relief.error ? <Trouble error={relief.error} /> : <Awaiting what="the relief" />}
      {pool.supply ? <Supplied pool={pool} /> : <Brought pool={pool} />}
      <JobPolicy pool={pool} />
      <Approvals pool={pool} />
    </>
  );
}

/** The machines of this pool are added by people. */
function Brought({ pool }: { pool: Pool }) {
  const [adding, setAdding] = useState(false);
  const may = useMay();
  return (
    <>
      <Heading beside={may("operator", pool.owner) ? <Button onClick={() => setAdding(true)}>Add a machine</Button> : null}>Machines</Heading>
      <Box color="quiet" maxW="60em">
        People add the machines of this pool. To have them ordered when jobs need them, name a supplier:{" "}
        <Box as="code" fontFamily="mono">{`pennine pool set ${pool.name} --supplier NAME --ceiling 4`}</Box>
      </Box>
      {adding ? <AddMachine pool={pool.name} close={() => setAdding(false)} /> : null}
    </>
  );
}

function Supplied({ pool }: { pool: Pool }) {
  const machines = useMachines(pool.name);
  const manages = useMay()("operator", pool.owner);
  const queries = useQueryClient();
  const start = useMutation({
    mutationFn: () => post<Page<Machine>>(`/pools/${encodeURIComponent(pool.name)}/machines`, {}),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["machines"] }),
  });
  const pause = useMutation({
    mutationFn: (paused: boolean) => patch<ChangedPool>(`/pools/${encodeURIComponent(pool.name)}`, { paused, accept_losses: true }),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["pools"] }),
  });
  const stop = useMutation({
    mutationFn: (machine: string) => post<Machine>(`/machines/${machine}/stop`, {}),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["machines"] }),
  });
  const money = useMoney();
  const decided = useSearch("decisions");
  const decisions = useDecisions(pool.name, decided);
  const sought = useSearch("machines");
  const shown = (machines.data?.items ?? []).filter((one) =>
    contains(sought, one.name, one.short, one.state, one.reason, one.runner_short, one.zone),
  );
  const error = machines.error ?? decisions.error ?? start.error ?? pause.error ?? stop.error;
  return (
    <>
      {error ? <Trouble error={error} /> : null}
      <Flex gap="48px" align="flex-start" wrap="wrap">
        <Box flex="3" minW={{ base: "100%", lg: "34em" }}>
          <Heading
            beside={<SearchBox name="decisions" label="Search decisions" placeholder="Text of a decision" width="16em" isMain={false} />}
          >
            Decisions
          </Heading>
          <List
            rows={(decisions.data?.items ?? []).slice(0, decided ? 50 : 14)}
            id={(one) => `${one.at} ${one.message}`}
            empty={decided ? "No decisions match." : "No decisions yet."}
            columns={[
              { head: "when", cell: (one) => <Ago at={one.at} />, width: "9em" },
              { head: "decision", cell: (one) => one.message, wrap: true },
            ]}
          />
        </Box>
        <Box flex="2" minW={{ base: "100%", lg: "24em" }}>
          <PoolPolicy pool={pool} />
        </Box>
      </Flex>
      <Heading
        beside={
          <Flex gap="8px" wrap="wrap">
            <SearchBox name="machines" label="Search machines" placeholder="Name, state or zone" width="16em" />
            {manages ? (
              <>
                <Button loading={start.isPending} onClick={() => start.mutate()}>
                  Start machine
                </Button>
                <Button loading={pause.isPending} onClick={() => pause.mutate(!pool.paused)}>
                  {pool.paused ? "Resume pool" : "Pause pool"}
                </Button>
              </>
            ) : null}
          </Flex>
        }
      >
        Machines
      </Heading>
      <List
        rows={shown}
        id={(one) => one.id}
        empty={sought ? "No machines match." : "No machines now. Machines are ordered when jobs need them."}
        columns={[
          { head: "machine", cell: (one) => one.name },
          { head: "state", cell: (one) => <MachineMark state={one.state} />, width: "8em" },
          { head: "for", cell: (one) => <Since at={one.since} />, right: true },
          { head: "reason", cell: (one) => one.reason, isMinor: true },
          { head: "runner", cell: (one) => <Link to={`/runners/${one.runner_short}`}>{one.runner_short}</Link> },
          { head: "boot time", cell: (one) => bootTime(one), right: true, isMinor: true },
          { head: "cost", cell: (one) => money(one.cost), right: true },
          { head: "zone", cell: (one) => one.zone ?? "", isMinor: true },
          {
            head: "",
            cell: (one) =>
              one.state === "releasing" || !manages ? null : (
                <Button aria-label={`Stop ${one.name}`} onClick={() => stop.mutate(one.id)}>
                  Stop
                </Button>
              ),
            right: true,
          },
        ]}
      />
    </>
  );
}

/** From the order to the first connection of its runner. */
const bootTime = (machine: Machine) =>
  machine.joined_at ? micros((Date.parse(machine.joined_at) - Date.parse(machine.ordered_at)) * 1000) : "";
