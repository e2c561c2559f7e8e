// Takes a scarce runner back from the jobs that have it: says what that does, asks why, and reports it.
import { Box, Button, Flex, Input } from "@chakra-ui/react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { post } from "../../api/client";
import type { ChangedRunner, Runner } from "../../api/client";
import { Trouble } from "../../parts/trouble";

export function TakeBack({ runner }: { runner: Runner }) {
  const queries = useQueryClient();
  const [asking, setAsking] = useState(false);
  const [why, setWhy] = useState("");
  const back = useMutation({
    mutationFn: () => post<ChangedRunner>(`/runners/${runner.id}/take-back`, { reason: why }),
    onSuccess: async () => {
      setAsking(false);
      await queries.invalidateQueries({ queryKey: ["runners"] });
    },
  });
  if (runner.executing.length === 0) return null;
  const jobs = runner.executing.map((job) => job.job).join(", ");
  if (!asking) {
    return (
      <Button size="sm" variant="outline" borderColor="rule" color="ink" onClick={() => setAsking(true)}>
        Take over runner …
      </Button>
    );
  }
  return (
    <Box asChild role="alertdialog" aria-label={`Take over ${runner.name}`} borderLeft="3px solid" borderColor="rust" pl="14px">
      <form
        onSubmit={(event) => {
          event.preventDefault();
          back.mutate();
        }}
      >
        <Box>
          It ends {jobs}, which are retried without losing an attempt, and pauses {runner.name} until it is resumed.
        </Box>
        <Flex gap="8px" mt="6px" align="center">
          <Input
            size="sm"
            w="20em"
            bg="sheet"
            borderColor="rule"
            placeholder="Reason, for the record"
            aria-label="Reason"
            value={why}
            onChange={(event) => setWhy(event.target.value)}
          />
          <Button type="submit" size="sm" bg="rust" color="ground" loading={back.isPending} disabled={why.trim() === ""}>
            Take over {runner.name}
          </Button>
          <Button size="sm" variant="outline" borderColor="rule" color="ink" onClick={() => setAsking(false)}>
            Cancel
          </Button>
        </Flex>
        {back.error ? <Trouble error={back.error} /> : null}
      </form>
    </Box>
  );
}
