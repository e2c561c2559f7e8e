// Takes a runner out for good: says first which of its jobs end and who can run nowhere then, and asks once.
import { Box, Button, Flex } from "@chakra-ui/react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { post } from "../../api/client";
import type { ChangedRunner, Runner } from "../../api/client";
import { Trouble } from "../../parts/trouble";

const count = (n: number, one: string, many: string) => (n === 1 ? `1 ${one}` : `${n} ${many}`);

export function Retire({ runner }: { runner: Runner }) {
  const queries = useQueryClient();
  const path = `/runners/${runner.id}/retire`;
  const ask = useMutation({ mutationFn: () => post<ChangedRunner>(path, { preview: true }) });
  const retire = useMutation({
    mutationFn: () => post<ChangedRunner>(path, { force: true, accept_losses: true }),
    onSuccess: () => {
      ask.reset();
      void queries.invalidateQueries({ queryKey: ["runners"] });
    },
  });
  const seen = ask.data;
  if (!seen) {
    return (
      <>
        <Button
          size="sm"
          variant="outline"
          borderColor="rule"
          color="ink"
          loading={ask.isPending}
          onClick={() => ask.mutate()}
        >
          Retire …
        </Button>
        {ask.error ? <Trouble error={ask.error} /> : null}
      </>
    );
  }
  return (
    <Box role="alertdialog" aria-label={`Retire ${runner.name}`} borderLeft="3px solid" borderColor="rust" pl="14px">
      <Box>
        {runner.name} accepts no further jobs, its program ends, and its credential is revoked. Its record stays.{" "}
        {seen.ends.length > 0
          ? `It ends ${seen.ends.map((job) => job.job).join(", ")}, which are retried elsewhere.`
          : "It has no jobs."}
      </Box>
      {seen.losses.map((loss) => (
        <Box key={`${loss.project} ${loss.where}`}>
          No other runner can run jobs of {loss.project} with the requirement “{loss.where || "anything"}”:{" "}
          {count(loss.waiting, "job waits", "jobs wait")}, {loss.lately} in the last 30 days.
        </Box>
      ))}
      <Flex gap="8px" mt="6px">
        <Button size="sm" bg="rust" color="ground" loading={retire.isPending} onClick={() => retire.mutate()}>
          Retire {runner.name}
        </Button>
        <Button size="sm" variant="outline" borderColor="rule" color="ink" onClick={() => ask.reset()}>
          Cancel
        </Button>
      </Flex>
      {retire.error ? <Trouble error={retire.error} /> : null}
    </Box>
  );
}
