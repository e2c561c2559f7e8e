// Takes a shared runner from the jobs that hold it: says what that does, and asks for the reason.
import { Box, Button } from "@chakra-ui/react";
import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { post } from "../../api/client";
import type { ChangedRunner, Runner } from "../../api/client";
import { FormDialog } from "../../parts/form/Form";
import { TextField } from "../../parts/form/fields";
import { useForm } from "../../parts/form/state";

export function TakeOver({ runner }: { runner: Runner }) {
  const [asking, setAsking] = useState(false);
  // While the dialog is open it stays, although the jobs may end by themselves.
  if (runner.executing.length === 0 && !asking) return null;
  return (
    <>
      <Button size="sm" onClick={() => setAsking(true)}>
        Take over runner …
      </Button>
      {asking ? <Ask runner={runner} close={() => setAsking(false)} /> : null}
    </>
  );
}

function Ask({ runner, close }: { runner: Runner; close: () => void }) {
  const queries = useQueryClient();
  const form = useForm({
    initial: { reason: "" },
    check: ({ reason }) => ({ reason: reason?.trim() ? undefined : "Enter a reason, for the record." }),
    send: ({ reason }) => post<ChangedRunner>(`/runners/${runner.id}/take-back`, { reason }),
    done: async () => {
      close();
      await queries.invalidateQueries({ queryKey: ["runners"] });
    },
  });
  const jobs = runner.executing.map((job) => job.job).join(", ");
  return (
    <FormDialog title={`Take over ${runner.name}`} form={form} submit={`Take over ${runner.name}`} close={close} isDangerous>
      <Box>
        {jobs ? `It ends ${jobs}, which are retried without losing an attempt, and pauses` : "It pauses"} {runner.name} until it
        is resumed.
      </Box>
      <TextField name="reason" label="Reason" isRequired autoFocus hint="Shown to the owners of the jobs and in the audit log." />
    </FormDialog>
  );
}
