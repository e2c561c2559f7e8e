// One runner: how it stands, what it executes, what is known of its machine.
import { Box, Button, Flex } from "@chakra-ui/react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Link, useParams } from "react-router";
import { put } from "../../api/client";
import type { Runner } from "../../api/client";
import { useRunner } from "../../api/hooks";
import { Lead } from "../../parts/answer";
import { Heading, List } from "../../parts/list";
import { RunnerMark } from "../../parts/mark";
import { Ago, Since } from "../../parts/time";
import { Awaiting, Trouble } from "../../parts/trouble";
import { Retire } from "./Retire";

export default function RunnerPage() {
  const { runner: name = "" } = useParams();
  const { data: runner, error } = useRunner(name);
  const queries = useQueryClient();
  const wish = useMutation({
    mutationFn: (wanted: Runner["wish"]) => put<Runner>(`/runners/${encodeURIComponent(name)}/wish`, { wish: wanted }),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["runners"] }),
  });
  if (!runner) return error ? <Trouble error={error} /> : <Awaiting what="the runner" />;
  const set = setByPeople(runner.set);
  const act = (label: string, wanted: Runner["wish"]) => (
    <Button
      size="sm"
      variant="outline"
      borderColor="rule"
      color="ink"
      loading={wish.isPending && wish.variables === wanted}
      onClick={() => wish.mutate(wanted)}
    >
      {label}
    </Button>
  );
  return (
    <>
      <Lead>
        {runner.name} in the pool {runner.pool} is {runner.state}: {runner.why}.
      </Lead>
      <Flex gap="22px" mt="10px" align="center" color="quiet">
        <RunnerMark state={runner.state} />
        <span>
          for <Since at={runner.since} />
        </span>
        <span>
          {runner.used} of {runner.slots} slots taken
        </span>
        {runner.seen_at ? (
          <span>
            last heard of <Ago at={runner.seen_at} />
          </span>
        ) : null}
        <span>pennine-runner {runner.version}</span>
      </Flex>
      {runner.description ? <Box mt="6px">{runner.description}</Box> : null}
      {runner.state === "retired" || runner.state === "awaited" ? null : (
        <Flex gap="10px" mt="10px" align="start">
          {runner.wish === "work" ? (
            <>
              {act("Pause: take nothing new", "pause")}
              {act("Drain: finish and take nothing new", "drain")}
            </>
          ) : (
            act("Resume", "work")
          )}
          <Retire runner={runner} />
        </Flex>
      )}
      {wish.error ? <Trouble error={wish.error} /> : null}
      <Heading>Executes</Heading>
      <List
        rows={runner.executing}
        id={(job) => job.job}
        empty="Nothing just now."
        columns={[
          { head: "job", cell: (job) => <Link to={`/jobs/${job.job}`}>{job.job}</Link> },
          { head: "title", cell: (job) => job.title },
          { head: "project", cell: (job) => job.project },
          { head: "for", cell: (job) => (job.started_at ? <Since at={job.started_at} /> : "") },
        ]}
      />
      {set.length > 0 ? (
        <>
          <Heading>Set by people</Heading>
          <List
            rows={set}
            id={(one) => one.what}
            empty=""
            columns={[
              { head: "what", cell: (one) => one.what },
              { head: "to", cell: (one) => one.to },
              { head: "by", cell: (one) => one.by },
              { head: "when", cell: (one) => <Ago at={one.at} /> },
            ]}
          />
        </>
      ) : null}
      <Heading>Labels and facts</Heading>
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
    </>
  );
}

type Line = { what: string; to: string; by: string; at: string };

/** What people set over what the machine says, a line each. */
function setByPeople(set: Runner["set"]): Line[] {
  const lines: Line[] = [];
  const add = (what: string, to: string, by: { by: string; at: string }) =>
    lines.push({ what, to, by: by.by, at: by.at });
  if (set?.slots) add("slots", String(set.slots.value), set.slots);
  if (set?.paths) add("paths", set.paths.value.join(":"), set.paths);
  for (const [name, one] of Object.entries(set?.labels ?? {})) add(`label ${name}`, one.value ? "has it" : "has it not", one);
  for (const [name, one] of Object.entries(set?.facts ?? {})) add(`fact ${name}`, String(one.value), one);
  for (const [name, one] of Object.entries(set?.variables ?? {})) add(`variable ${name}`, one.value, one);
  return lines;
}
