// Schedules maintenance of a runner, and ends or cancels current and future maintenance.
import { Box, Button, Flex, Input } from "@chakra-ui/react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { post } from "../../api/client";
import type { Maintenance, Runner } from "../../api/client";
import { useMaintenance } from "../../api/hooks";
import { Until } from "../../parts/time";
import { Trouble } from "../../parts/trouble";

const HOUR = 3_600_000_000;

export function PlanMaintenance({ runner }: { runner: Runner }) {
  const queries = useQueryClient();
  const { data } = useMaintenance();
  const [why, setWhy] = useState("");
  const [hours, setHours] = useState("1");
  const [from, setFrom] = useState("");
  const fresh = () => queries.invalidateQueries({ queryKey: ["maintenance"] });
  const add = useMutation({
    mutationFn: () =>
      post<Maintenance>("/maintenance", {
        runner: runner.short,
        reason: why,
        length_us: Math.round(Number(hours) * HOUR),
        ...(from ? { from: new Date(from).toISOString() } : {}),
      }),
    onSuccess: async () => {
      setWhy("");
      await fresh();
    },
  });
  const end = useMutation({
    mutationFn: (name: string) => post<void>(`/maintenance/${name}/end`),
    onSettled: fresh,
  });
  const mine = (data?.items ?? []).filter((one) => one.runner === runner.name || one.pool === runner.pool);
  const field = { size: "sm", bg: "sheet", borderColor: "rule" } as const;
  return (
    <>
      {mine.map((one) => (
        <Flex key={one.name} gap="12px" align="center" py="3px">
          <Box color={one.on ? "rust" : "bracken"}>
            {one.on ? "On: ends " : "Begins "}
            <Until at={one.on ? one.until : one.from} />
          </Box>
          <Box>
            {one.reason}
            {one.pool ? ` (the whole pool ${one.pool})` : ""}, planned by {one.by}
          </Box>
          <Button size="xs" variant="outline" borderColor="rule" color="ink" onClick={() => end.mutate(one.name)}>
            {one.on ? "End maintenance" : "Cancel maintenance"}
          </Button>
        </Flex>
      ))}
      <Box asChild mt="6px">
        <form
          onSubmit={(event) => {
            event.preventDefault();
            add.mutate();
          }}
        >
          <Flex gap="8px" align="center" wrap="wrap">
            <span>From</span>
            <Input {...field} w="13em" type="datetime-local" aria-label="From" value={from} onChange={(event) => setFrom(event.target.value)} />
            <span>{from ? "for" : "(now) for"}</span>
            <Input {...field} w="5em" aria-label="Hours" value={hours} onChange={(event) => setHours(event.target.value)} />
            <span>hours:</span>
            <Input {...field} w="18em" aria-label="Reason" placeholder="reason" value={why} onChange={(event) => setWhy(event.target.value)} />
            <Button
              type="submit"
              size="sm"
              variant="outline"
              borderColor="rule"
              color="ink"
              loading={add.isPending}
              disabled={why.trim() === "" || !(Number(hours) > 0)}
            >
              Schedule
            </Button>
          </Flex>
        </form>
      </Box>
      {add.error ? <Trouble error={add.error} /> : null}
      {end.error ? <Trouble error={end.error} /> : null}
    </>
  );
}
