// Add a machine: makes a ticket, shows the command for this service's address, and turns by itself when the machine
// connects.
import { Box, Button, Flex } from "@chakra-ui/react";
import { useMutation } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Link } from "react-router";
import { post } from "../../api/client";
import type { MadeTicket } from "../../api/client";
import { useRunners } from "../../api/hooks";
import { RunnerMark } from "../../parts/mark";
import { spoken, useNow } from "../../parts/time";
import { Awaiting, Trouble } from "../../parts/trouble";

export function AddMachine({ pool, close }: { pool: string; close: () => void }) {
  const { mutate, data: ticket, error } = useMutation({
    mutationFn: () => post<MadeTicket>(`/pools/${encodeURIComponent(pool)}/tickets`, {}),
  });
  // One ticket for each time this is opened, however often React mounts it.
  const [asked, setAsked] = useState(false);
  useEffect(() => {
    if (!asked) {
      setAsked(true);
      mutate();
    }
  }, [asked, mutate]);
  const runners = useRunners();
  const now = useNow();
  const [copied, setCopied] = useState(false);
  const runner = runners.data?.items.find((one) => one.id === ticket?.runner);
  const joined = runner && runner.state !== "awaited";
  const connected = joined && runner.state !== "offline";
  const command = ticket ? `${ticket.install} --work` : "";
  return (
    <Box bg="sheet" border="1px solid" borderColor="rule" borderRadius="4px" p="14px 18px" my="8px" maxW="72em">
      {error ? <Trouble error={error} /> : null}
      {!ticket && !error ? <Awaiting what="a ticket" /> : null}
      {ticket && !joined ? (
        <>
          <Box mb="6px">Run this on the machine. It downloads pennine-runner from this service, verifies it, joins and accepts jobs. The machine needs outbound access to this address only.</Box>
          <Flex align="center" gap="10px">
            <Box
              as="code"
              data-testid="join-command"
              fontFamily="mono"
              fontSize="13px"
              bg="hollow"
              p="7px 10px"
              overflowX="auto"
              whiteSpace="nowrap"
              flex="1"
            >
              {command}
            </Box>
            <Button
              size="sm"
              variant="outline"
              borderColor="rule"
              color="ink"
              onClick={() => {
                void navigator.clipboard?.writeText(command).then(() => setCopied(true));
              }}
            >
              {copied ? "Copied" : "Copy"}
            </Button>
          </Flex>
          <Box color="quiet" mt="8px">
            As root, <code>--boot</code> instead of <code>--work</code> starts the runner at each boot. If pennine-runner is
            already installed: <code data-testid="join-command-short">{ticket.command} --work</code>
          </Box>
          <Flex color="quiet" mt="8px" gap="10px">
            <RunnerMark state="awaited" />
            The ticket admits one machine and expires in{" "}
            {spoken(Math.max(0, Math.floor((Date.parse(ticket.expires_at) - now) / 60_000) * 60_000))}. This line changes
            when the machine connects.
          </Flex>
        </>
      ) : null}
      {joined ? (
        <Flex gap="10px" align="center" data-testid="machine-joined">
          <RunnerMark state={runner.state} />
          {connected ? (
            <span>
              <Link to={`/runners/${runner.short}`}>{runner.name}</Link> has joined and accepts jobs.
            </span>
          ) : (
            <span>{runner.name} has joined; it is not connected yet.</span>
          )}
        </Flex>
      ) : null}
      <Button size="xs" variant="ghost" color="quiet" mt="8px" ml="-8px" onClick={close}>
        {joined ? "Done" : "Close"}
      </Button>
    </Box>
  );
}
