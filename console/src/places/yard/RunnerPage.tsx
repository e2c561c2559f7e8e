// One runner: how it stands, what it executes, what is known of its machine.
import { Box, Button, Flex } from "@chakra-ui/react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Link, useParams } from "react-router";
import { put } from "../../api/client";
import type { Runner } from "../../api/client";
import { useRunners } from "../../api/hooks";
import { Lead } from "../../parts/answer";
import { Heading, List } from "../../parts/list";
import { RunnerMark } from "../../parts/mark";
import { Ago, Since } from "../../parts/time";
import { Awaiting, Trouble } from "../../parts/trouble";

export default function RunnerPage() {
  const { runner: name = "" } = useParams();
  const runners = useRunners();
  const queries = useQueryClient();
  const wish = useMutation({
    mutationFn: (wanted: Runner["wish"]) => put<Runner>(`/runners/${encodeURIComponent(name)}/wish`, { wish: wanted }),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["runners"] }),
  });
  if (!runners.data) return runners.error ? <Trouble error={runners.error} /> : <Awaiting what="the runner" />;
  const runner = runners.data.items.find((one) => one.short === name || one.id === name || one.name === name);
  if (!runner) return <Lead>There is no runner {name}, or it is retired.</Lead>;
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
        {runner.wish === "work" ? act("Pause: take nothing new", "pause") : act("Resume", "work")}
      </Flex>
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
