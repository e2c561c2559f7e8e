// Retires a runner: first says which of its jobs end and which jobs could then run nowhere, and asks once.
import { Box, Button } from "@chakra-ui/react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { post } from "../../api/client";
import type { ChangedRunner, Runner } from "../../api/client";
import { counted } from "../../parts/count";
import { Confirm } from "../../parts/form/Form";
import { Trouble } from "../../parts/trouble";

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
  return (
    <>
      <Button size="sm" loading={ask.isPending} loadingText="Retire …" onClick={() => ask.mutate()}>
        Retire …
      </Button>
      {ask.error ? <Trouble error={ask.error} /> : null}
      {seen ? (
        <Confirm
          title={`Retire ${runner.name}`}
          action={`Retire ${runner.name}`}
          isPending={retire.isPending}
          error={retire.error}
          confirm={() => retire.mutate()}
          close={ask.reset}
        >
          {runner.name} accepts no further jobs, its program ends, and its credential is revoked. Its record stays.{" "}
          {seen.ends.length > 0
            ? `It ends ${seen.ends.map((job) => job.job).join(", ")}, which are retried elsewhere.`
            : "It has no jobs."}
          {seen.losses.map((loss) => (
            <Box key={`${loss.project} ${loss.where}`}>
              No other runner can run jobs of {loss.project} with the requirement “{loss.where || "any runner"}”:{" "}
              {counted(loss.waiting, "job waits", "jobs wait")}, {loss.recent} in the last 30 days.
            </Box>
          ))}
        </Confirm>
      ) : null}
    </>
  );
}
