// Schedules maintenance of a runner, and ends or cancels current and future maintenance.
import { Box, Button, Flex } from "@chakra-ui/react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { post } from "../../api/client";
import type { Maintenance, Runner } from "../../api/client";
import { useMaintenance } from "../../api/hooks";
import { FormDialog } from "../../parts/form/Form";
import { MomentField, Row, TextField } from "../../parts/form/fields";
import { useForm } from "../../parts/form/state";
import { TIME_ERROR, readTime } from "../../parts/form/values";
import { Until } from "../../parts/time";
import { Trouble } from "../../parts/trouble";

export function PlanMaintenance({ runner }: { runner: Runner }) {
  const queries = useQueryClient();
  const { data } = useMaintenance();
  const [planning, setPlanning] = useState(false);
  const end = useMutation({
    mutationFn: (name: string) => post<void>(`/maintenance/${name}/end`),
    onSettled: () => queries.invalidateQueries({ queryKey: ["maintenance"] }),
  });
  const mine = (data?.items ?? []).filter((one) => one.runner === runner.name || one.pool === runner.pool);
  return (
    <>
      {mine.length === 0 ? <Box color="quiet">No maintenance is scheduled.</Box> : null}
      {mine.map((one) => (
        <Flex key={one.name} gap="12px" align="center" py="3px" wrap="wrap">
          <Box color={one.on ? "rust" : "bracken"}>
            {one.on ? "Ends " : "Begins "}
            <Until at={one.on ? one.until : one.from} />
          </Box>
          <Box>
            {one.reason}
            {one.pool ? ` (the whole pool ${one.pool})` : ""}, scheduled by {one.by}
          </Box>
          <Button onClick={() => end.mutate(one.name)}>{one.on ? "End maintenance" : "Cancel maintenance"}</Button>
        </Flex>
      ))}
      {end.error ? <Trouble error={end.error} /> : null}
      <Button mt="8px" onClick={() => setPlanning(true)}>
        Schedule maintenance
      </Button>
      {planning ? <Plan runner={runner} close={() => setPlanning(false)} /> : null}
    </>
  );
}

function Plan({ runner, close }: { runner: Runner; close: () => void }) {
  const queries = useQueryClient();
  const form = useForm({
    initial: { reason: "", from: "", length: "1h" },
    check: ({ reason, length }) => ({
      reason: reason?.trim() ? undefined : "Enter a reason.",
      length: readTime(length ?? "") === undefined ? TIME_ERROR : undefined,
    }),
    send: ({ reason, from, length }) =>
      post<Maintenance>("/maintenance", {
        runner: runner.short,
        reason,
        length_us: readTime(length ?? ""),
        ...(from ? { from: new Date(from).toISOString() } : {}),
      }),
    done: async () => {
      close();
      await queries.invalidateQueries({ queryKey: ["maintenance"] });
    },
  });
  return (
    <FormDialog title={`Schedule maintenance of ${runner.name}`} form={form} submit="Schedule maintenance" close={close}>
      <Box>{runner.name} accepts no jobs during maintenance. Jobs that are executing when it begins go on.</Box>
      <TextField name="reason" label="Reason" isRequired autoFocus placeholder="new disk" />
      <Row>
        <MomentField name="from" label="From" width="16em" hint="Empty: now." />
        <TextField name="length" label="Duration" width="10em" placeholder="1h" hint="Such as 90m, 2h or 1d." />
      </Row>
    </FormDialog>
  );
}
