// A job's time from submission to end as one bar, to scale: each reason of its wait, its commands, its upload.
import { Box, Flex } from "@chakra-ui/react";
import type { Job } from "../../api/client";
import { reasonTone } from "../../parts/mark";
import { spoken, useNow } from "../../parts/time";

type Part = { what: string; from: number; to: number; tone: string; count?: number };

function parts(job: Job, now: number): Part[] {
  const found: Part[] = [];
  const add = (what: string, tone: string, from: string | null | undefined, to: string | null | undefined) => {
    if (!from) return;
    found.push({ what, tone, from: Date.parse(from), to: to ? Date.parse(to) : now });
  };
  // Time held is not part of the wait.
  if (job.is_of_sheet) add("held", "gritstone", job.created_at, job.ready_at);
  for (const attempt of job.attempts) {
    for (const span of attempt.wait) add(span.reason, reasonTone(span.reason), span.from, span.to);
    const over = attempt.finished_at;
    const ready = attempt.started_at && attempt.phases?.source_us ? Date.parse(attempt.started_at) + attempt.phases.source_us / 1000 : null;
    const begun = ready ? new Date(ready).toISOString() : attempt.started_at;
    if (ready) add("source", "heatherWash", attempt.started_at, begun);
    add("commands", "heather", begun, attempt.exited_at ?? over);
    if (attempt.exited_at) add("log upload", "moss", attempt.exited_at, over);
  }
  job.waiting.forEach((span, i) => {
    const last = i === job.waiting.length - 1 && job.state === "pending";
    add(span.reason, reasonTone(span.reason), span.from, last ? null : span.to);
  });
  return found.filter((part) => part.to > part.from);
}

/** Parts of one kind together, in the order of their first. */
function sums(all: Part[]): Part[] {
  const kinds = new Map<string, Part>();
  for (const part of all) {
    const known = kinds.get(part.what);
    if (known) known.to += part.to - part.from;
    else kinds.set(part.what, { ...part });
  }
  return [...kinds.values()];
}

export function TimeBar({ job }: { job: Job }) {
  const now = useNow();
  const all = parts(job, now);
  const first = all[0];
  if (!first) return null;
  const whole = Math.max(...all.map((part) => part.to)) - first.from;
  const label = `From submission: ${sums(all)
    .map((part) => `${part.what} ${spoken(part.to - part.from)}`)
    .join(", ")}`;
  return (
    <Box mt="16px" data-testid="time-bar">
      <Flex h="22px" bg="hollow" role="img" aria-label={label}>
        {all.map((part, i) => (
          <Box
            key={i}
            bg={part.tone}
            minW="2px"
            // To scale; what is too short to see keeps two pixels.
            style={{ width: `${(100 * (part.to - part.from)) / whole}%` }}
            title={`${part.what}: ${spoken(part.to - part.from)}`}
            borderRight="1px solid"
            borderColor="ground"
          />
        ))}
      </Flex>
      <Flex gap="20px" mt="6px" wrap="wrap" fontSize="14px">
        {sums(all).map((part) => (
          <Flex key={part.what} align="center" gap="6px">
            <Box w="10px" h="10px" bg={part.tone} />
            <span>{part.what}</span>
            <Box color="quiet">{spoken(part.to - part.from)}</Box>
          </Flex>
        ))}
        <Box color="quiet">total {spoken(whole)}</Box>
      </Flex>
    </Box>
  );
}
