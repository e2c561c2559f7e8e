// The page of one runner: state, history, executing and next jobs, faults, labels and facts.
import { Box, Button, Flex } from "@chakra-ui/react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Link, useParams } from "react-router";
import { put } from "../../api/client";
import type { Runner } from "../../api/client";
import { useNext, usePools, useRunner, useRunnerTime } from "../../api/hooks";
import { useMay } from "../../api/may";
import { useTheme } from "../../app/theme";
import { Lead } from "../../parts/answer";
import { Folded, Heading, List } from "../../parts/list";
import { RunnerMark } from "../../parts/mark";
import { Ago, Since, useNow } from "../../parts/time";
import { Awaiting, Trouble } from "../../parts/trouble";
import { Doctor } from "./Doctor";
import { Overrides } from "./Overrides";
import { PlanMaintenance } from "./PlanMaintenance";
import { Retire } from "./Retire";
import { Hours, Legend, Strip } from "./Strip";
import { TakeOver } from "./TakeOver";

/** How much time the strip shows, and how wide it is. */
const HOURS = 24;
const WIDTH = 1180;

export default function RunnerPage() {
  const { runner: name = "" } = useParams();
  const { data: runner, error } = useRunner(name);
  const queries = useQueryClient();
  const change = useMutation({
    mutationFn: (wanted: Runner["desired_state"]) => put<Runner>(`/runners/${encodeURIComponent(name)}/desired-state`, { desired_state: wanted }),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["runners"] }),
  });
  const away = runner?.state === "awaited" || runner?.state === "retired";
  const next = useNext(name, runner != null && !away);
  const time = useRunnerTime(runner ? [[runner.id]] : [], HOURS).get(runner?.id ?? "");
  const theme = useTheme();
  const may = useMay();
  const pools = usePools().data?.items;
  const until = Math.ceil(useNow() / 60_000) * 60_000;
  const from = until - HOURS * 3_600_000;
  if (!runner) return error ? <Trouble error={error} /> : <Awaiting what="the runner" />;
  const owner = pools?.find((pool) => pool.name === runner.pool)?.owner;
  const manages = owner === undefined || may("operator", owner);
  const act = (label: string, wanted: Runner["desired_state"]) => (
    <Button
      size="sm"
      loadingText={label}
      loading={change.isPending && change.variables === wanted}
      onClick={() => change.mutate(wanted)}
    >
      {label}
    </Button>
  );
  return (
    <>
      <Lead>
        {runner.name} in the pool {runner.pool} is {runner.state}
        {runner.reason && !["available", "busy"].includes(runner.state) ? `: ${runner.reason}` : ""}.
      </Lead>
      <Flex columnGap="22px" rowGap="4px" mt="10px" align="center" color="quiet" wrap="wrap">
        <RunnerMark state={runner.state} />
        <span>
          for <Since at={runner.since} />
        </span>
        <span>
          {runner.used} of {runner.slots} slots taken
        </span>
        {runner.seen_at ? (
          <span>
            last contact <Ago at={runner.seen_at} />
          </span>
        ) : null}
        <span>pennine-runner {runner.version}</span>
      </Flex>
      {runner.description ? <Box mt="6px">{runner.description}</Box> : null}
      {runner.state === "retired" || runner.state === "awaited" || !manages ? null : (
        <Flex gap="10px" mt="10px" align="start" wrap="wrap">
          {runner.desired_state === "work" ? (
            <>
              {act("Pause", "pause")}
              {act("Drain", "drain")}
            </>
          ) : (
            act("Resume", "work")
          )}
          <TakeOver runner={runner} />
          <Retire runner={runner} />
        </Flex>
      )}
      {change.error ? <Trouble error={change.error} /> : null}
      <Heading beside={<Legend />}>The last {HOURS} hours</Heading>
      <Box overflowX="auto" tabIndex={0} role="group" aria-label={`The last ${HOURS} hours by slot`}>
        <Hours from={from} until={until} width={WIDTH} />
        <Strip
          theme={theme}
          time={time}
          from={from}
          until={until}
          width={WIDTH}
          height={Math.max(26, 16 * Math.max(1, time?.lanes.length ?? runner.slots))}
        />
      </Box>
      <Flex gap="48px" align="flex-start" wrap="wrap">
        <Box flex="1" minW={{ base: "100%", md: "26em" }}>
          <Heading>Executing now</Heading>
          <List
            rows={runner.executing}
            id={(job) => job.job}
            empty={runner.used > 0 ? `${runner.used} ${runner.used === 1 ? "job" : "jobs"} of other teams.` : "No jobs."}
            columns={[
              { head: "job", cell: (job) => <Link to={`/jobs/${job.job}`}>{job.job}</Link> },
              { head: "title", cell: (job) => job.title },
              { head: "project", cell: (job) => job.project },
              { head: "for", cell: (job) => (job.started_at ? <Since at={job.started_at} /> : ""), right: true },
            ]}
          />
        </Box>
        {away ? null : (
          <Box flex="1" minW={{ base: "100%", md: "26em" }}>
            <Heading>Next in line</Heading>
            <List
              rows={next.data?.items ?? []}
              id={(job) => job.job}
              empty="No jobs are waiting for it."
              columns={[
                { head: "job", cell: (job) => <Link to={`/jobs/${job.job}`}>{job.job}</Link> },
                { head: "title", cell: (job) => job.title },
                { head: "project", cell: (job) => job.project },
                { head: "waits", cell: (job) => <Since at={job.waits_since} />, right: true },
              ]}
            />
          </Box>
        )}
      </Flex>
      <Heading>Doctor</Heading>
      <Doctor runner={name} />
      {away || !manages ? null : (
        <>
          <Heading>Maintenance</Heading>
          <PlanMaintenance runner={runner} />
        </>
      )}
      {runner.state === "retired" || !manages ? null : (
        <>
          <Heading>Overrides</Heading>
          <Overrides runner={runner} />
        </>
      )}
      {time && time.states.length > 0 ? (
        <Folded heading="State history" count={time.states.length}>
          <List
            rows={[...time.states].reverse().slice(0, 30)}
            id={(one) => one.from}
            empty=""
            columns={[
              { head: "state", cell: (one) => <RunnerMark state={one.state} />, width: "9em" },
              { head: "since", cell: (one) => <Ago at={one.from} />, width: "10em" },
              { head: "reason", cell: (one) => one.reason, wrap: true },
            ]}
          />
        </Folded>
      ) : null}
      <Folded heading="Labels and facts" count={runner.labels.length + runner.pool_labels.length + Object.keys(runner.facts).length}>
      <Box mb="8px">{[...runner.labels, ...runner.pool_labels].join(", ") || "no labels"}</Box>
      <Box as="dl" display="grid" gridTemplateColumns="repeat(auto-fill, minmax(15em, 1fr))" rowGap="4px">
        {Object.entries(runner.facts).map(([fact, value]) => (
          <Flex key={fact} gap="10px">
            <Box as="dt" color="quiet" minW="5em">
              {fact}
            </Box>
            <dd>{String(value)}</dd>
          </Flex>
        ))}
      </Box>
      </Folded>
    </>
  );
}
