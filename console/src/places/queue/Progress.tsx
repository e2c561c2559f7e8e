// Actions on many jobs that go on in the background, each with how far it is and a way to stop it.
import { Box, Button, Flex } from "@chakra-ui/react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { type BulkProgress, post } from "../../api/client";
import { useBulkActions } from "../../api/hooks";
import { counted, number } from "../../parts/count";
import { Trouble } from "../../parts/trouble";

const WORDS: Record<BulkProgress["request"]["action"], string> = {
  cancel: "Cancelling",
  retry: "Submitting again",
  urgent: "Moving to the urgent band",
  normal: "Moving to the normal band",
  background: "Moving to the background band",
};

export function Progress() {
  const running = useBulkActions().data?.items.filter((one) => one.state === "running") ?? [];
  return running.map((one) => <Running key={one.name} action={one} />);
}

function Running({ action }: { action: BulkProgress }) {
  const cache = useQueryClient();
  const stop = useMutation({
    mutationFn: () => post<BulkProgress>(`/jobs/actions/${action.name}/stop`),
    onSettled: () => cache.invalidateQueries({ queryKey: ["bulk-actions"] }),
  });
  return (
    <Flex mt="12px" columnGap="14px" align="center" wrap="wrap" role="status">
      <Box>
        {action.name}: {WORDS[action.request.action]}{" "}
        {action.found == null ? "jobs, which are being looked up" : counted(action.found, "job")}, begun by {action.by}
      </Box>
      {action.found ? (
        <Flex align="center" columnGap="8px">
          <progress aria-label={`Progress of ${action.name}`} max={action.found} value={action.handled} />
          <Box color="quiet">{number(action.handled)} handled</Box>
        </Flex>
      ) : null}
      <Button loading={stop.isPending} title={`pennine queue stop ${action.name}`} onClick={() => stop.mutate()}>
        Stop {action.name}
      </Button>
      {stop.error ? <Trouble error={stop.error} /> : null}
    </Flex>
  );
}
