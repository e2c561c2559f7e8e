// The same for many runners: pause, resume, drain, retire. Says to how many, and what became of it.
import { Box, Button, Flex } from "@chakra-ui/react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { post, put } from "../../api/client";
import type { ChangedRunner, Runner } from "../../api/client";
import { Confirm } from "../../parts/form/Form";
import { Trouble } from "../../parts/trouble";

const runnersOf = (n: number) => (n === 1 ? "1 runner" : `${n} runners`);

/** Does something to each, a few at a time; how many it went well for, and the first failure. */
async function each(runners: Runner[], act: (runner: Runner) => Promise<unknown>) {
  const left = [...runners];
  let done = 0;
  let failure: unknown;
  const work = async () => {
    for (let one = left.pop(); one; one = left.pop()) {
      try {
        await act(one);
        done += 1;
      } catch (error) {
        failure ??= error;
      }
    }
  };
  await Promise.all(Array.from({ length: 4 }, work));
  return { done, of: runners.length, failure };
}

const DOES: Record<Runner["desired_state"], string> = { work: "Resume", pause: "Pause", drain: "Drain" };

export function Bulk({ runners, done }: { runners: Runner[]; done: () => void }) {
  const queries = useQueryClient();
  const fresh = () => queries.invalidateQueries({ queryKey: ["runners"] });
  const change = useMutation({
    mutationFn: (wanted: Runner["desired_state"]) => each(runners, (one) => put(`/runners/${one.id}/desired-state`, { desired_state: wanted })),
    onSettled: fresh,
  });
  // First what it would do, to all of them.
  const ask = useMutation({
    mutationFn: async () => {
      const seen: ChangedRunner[] = [];
      await each(runners, async (one) => seen.push(await post<ChangedRunner>(`/runners/${one.id}/retire`, { preview: true })));
      return seen;
    },
  });
  const retire = useMutation({
    mutationFn: () => each(runners, (one) => post(`/runners/${one.id}/retire`, { force: true, accept_losses: true })),
    onSettled: async () => {
      ask.reset();
      await fresh();
      done();
    },
  });
  const outcome = change.data;
  const ends = ask.data?.flatMap((one) => one.ends) ?? [];
  const losses = ask.data?.flatMap((one) => one.losses) ?? [];
  const act = (wanted: Runner["desired_state"]) => (
    <Button
      loading={change.isPending && change.variables === wanted}
      onClick={() => change.mutate(wanted)}
    >
      {DOES[wanted]} {runnersOf(runners.length)}
    </Button>
  );
  return (
    <Box bg="sheet" border="1px solid" borderColor="rule" borderRadius="4px" p="8px 14px" my="8px" data-testid="bulk">
      <Flex gap="8px" align="center" wrap="wrap">
        {act("pause")}
        {act("drain")}
        {act("work")}
        <Button loading={ask.isPending} onClick={() => ask.mutate()}>
          Retire {runnersOf(runners.length)} …
        </Button>
        <Button variant="ghost" onClick={done}>
          Clear selection
        </Button>
        {outcome ? (
          <Box role="status" color={outcome.failure ? "rust" : "moss"}>
            {outcome.done} of {outcome.of} done.
          </Box>
        ) : null}
      </Flex>
      {outcome?.failure ? <Trouble error={outcome.failure} /> : null}
      {ask.data ? (
        <Confirm
          title={`Retire ${runnersOf(runners.length)}`}
          action={`Retire ${runnersOf(runners.length)}`}
          isPending={retire.isPending}
          error={retire.data?.failure}
          confirm={() => retire.mutate()}
          close={ask.reset}
        >
          {runnersOf(runners.length)} accept no further jobs, their programs end, and their credentials are revoked. Their
          records stay. {ends.length > 0 ? `${ends.length} jobs end and are retried elsewhere.` : "The runners have no jobs."}
          {losses.length > 0 ? ` Some jobs of ${losses.map((loss) => loss.project).join(", ")} may be left without a runner.` : ""}
        </Confirm>
      ) : null}
    </Box>
  );
}
