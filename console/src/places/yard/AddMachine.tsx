// Adds a machine: makes a ticket when asked to, shows the command for this service's address, and says when the machine has
// connected.
import { Box, Button, Flex } from "@chakra-ui/react";
import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { post } from "../../api/client";
import type { MadeTicket } from "../../api/client";
import { useRunners } from "../../api/hooks";
import { CopyLine } from "../../parts/copy";
import { FormDialog, Modal, More } from "../../parts/form/Form";
import { Row, TextField } from "../../parts/form/fields";
import { useForm } from "../../parts/form/state";
import type { Errors, Values } from "../../parts/form/state";
import { TIME_ERROR, readCount, readTime, readWords } from "../../parts/form/values";
import { RunnerMark } from "../../parts/mark";
import { spoken, useNow } from "../../parts/time";
import { Trouble } from "../../parts/trouble";

const check = (values: Values): Errors => ({
  uses: readCount(values.uses ?? "") ? undefined : "Enter a whole number, 1 or more.",
  lifetime: readTime(values.lifetime ?? "") === undefined ? TIME_ERROR : undefined,
});

export function AddMachine({ pool, close }: { pool: string; close: () => void }) {
  const [ticket, setTicket] = useState<MadeTicket>();
  const form = useForm({
    initial: { uses: "1", lifetime: "1h" },
    check,
    send: (values) =>
      post<MadeTicket>(`/pools/${encodeURIComponent(pool)}/tickets`, {
        uses: readCount(values.uses ?? ""),
        lifetime_us: readTime(values.lifetime ?? ""),
        labels: readWords(values.labels ?? ""),
        ...(values.names?.trim() ? { names: values.names.trim() } : {}),
      }),
    done: setTicket,
  });
  const title = `Add a machine to ${pool}`;
  if (ticket) {
    return (
      <Modal title={title} close={close} width="860px">
        <Ticket ticket={ticket} close={close} />
      </Modal>
    );
  }
  return (
    <FormDialog title={title} form={form} submit="Create ticket" close={close}>
      <Box>
        A ticket admits a machine to the pool. The next step shows the command to run on the machine, which needs outbound
        access to this address only.
      </Box>
      <Row>
        <TextField name="uses" label="Machines" width="9em" inputMode="numeric" hint="How many may join with it." />
        <TextField name="lifetime" label="Valid for" width="9em" placeholder="1h" hint="Such as 30m, 1h or 2d." />
      </Row>
      <More label="Names and labels">
        <TextField name="names" label="Names" placeholder="fell-*" hint="What the machines may be called; * stands for anything. Empty: anything." />
        <TextField name="labels" label="Labels" placeholder="bench" hint="The machines get these labels in addition. Separated by blanks." />
      </More>
    </FormDialog>
  );
}

function Ticket({ ticket, close }: { ticket: MadeTicket; close: () => void }) {
  const runners = useRunners();
  const now = useNow();
  const revoke = useMutation({ mutationFn: () => post(`/tickets/${ticket.name}/revoke`), onSuccess: close });
  const runner = runners.data?.items.find((one) => one.id === ticket.runner);
  const joined = runner && runner.state !== "awaited" ? runner : undefined;
  const command = `${ticket.install} --work`;
  const left = spoken(Math.max(0, Math.floor((Date.parse(ticket.expires_at) - now) / 60_000) * 60_000));
  return (
    <>
      {joined ? (
        <Flex gap="10px" align="center" data-testid="machine-joined">
          <RunnerMark state={joined.state} />
          {joined.state === "offline" ? (
            <span>{joined.name} has joined; it is not connected yet.</span>
          ) : (
            <span>
              <Link to={`/runners/${joined.short}`}>{joined.name}</Link> has joined and accepts jobs.
            </span>
          )}
        </Flex>
      ) : (
        <>
          <Box mb="6px">
            Run this on the machine. It downloads pennine-runner from this service, verifies it, joins and accepts jobs.
          </Box>
          <CopyLine text={command} action="Copy command" testId="join-command" />
          <Box color="quiet" mt="8px">
            As root, <code>--boot</code> instead of <code>--work</code> starts the runner at each boot. If pennine-runner is
            already installed: <code data-testid="join-command-short">{ticket.command} --work</code>
          </Box>
          <Flex color="quiet" mt="8px" gap="10px" wrap="wrap">
            <RunnerMark state="awaited" />
            The ticket {ticket.name} expires in {left}. This line changes when the machine connects.
          </Flex>
        </>
      )}
      {revoke.error ? <Trouble error={revoke.error} /> : null}
      <Flex gap="10px" mt="18px">
        <Button size="sm" variant={joined ? "solid" : "outline"} onClick={close}>
          {joined ? "Done" : "Keep ticket and close"}
        </Button>
        {joined ? null : (
          <Button size="sm" variant="surface" loading={revoke.isPending} loadingText="Revoke ticket" onClick={() => revoke.mutate()}>
            Revoke ticket
          </Button>
        )}
      </Flex>
    </>
  );
}
