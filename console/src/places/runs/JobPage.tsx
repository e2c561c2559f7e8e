// One job: its time as a bar, why it waits, its log, the rest.
import { Box, Button, Flex } from "@chakra-ui/react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { post } from "../../api/client";
import type { BulkResult, Comparison, Job, JobSizing } from "../../api/client";
import { useComparison, useJob, useSizing, useWhy } from "../../api/hooks";
import { useMay } from "../../api/may";
import { Lead } from "../../parts/answer";
import { FactList } from "../../parts/facts";
import { Folded, Heading, List } from "../../parts/list";
import { JobMark } from "../../parts/mark";
import { Remedy } from "../../parts/remedy";
import { Ago, Until, micros } from "../../parts/time";
import { Awaiting, Trouble } from "../../parts/trouble";
import { LogView } from "./LogView";
import { TimeBar } from "./TimeBar";

const UNITS = ["KiB", "MiB", "GiB", "TiB"];

function size(bytes: number): string {
  if (bytes < 1024) return `${bytes} B`;
  const power = Math.min(Math.floor(Math.log2(bytes) / 10), UNITS.length);
  return `${(bytes / 1024 ** power).toFixed(1)} ${UNITS[power - 1]}`;
}

function lead(job: Job): string {
  const waited = micros(job.wait_us);
  const said = job.message ? ` (${job.message})` : "";
  switch (job.state) {
    case "done":
      return `${job.name} “${job.title}” is done with ${job.result}${said}. It waited ${waited}${job.ran_us == null ? "" : ` and ran ${micros(job.ran_us)}`}.`;
    case "executing":
    case "finalizing":
      return `${job.name} “${job.title}” runs on ${job.runner}. It waited ${waited}.`;
    case "held":
      return `${job.name} “${job.title}” ${job.held_for ?? "is held"}.`;
    default:
      return `${job.name} “${job.title}” waits.`;
  }
}

export default function JobPage() {
  const { job: name = "" } = useParams();
  const found = useJob(name);
  const waits = found.data?.state === "pending";
  const why = useWhy(name, waits);
  const queries = useQueryClient();
  const cancel = useMutation({
    mutationFn: () => post<Job>(`/jobs/${encodeURIComponent(name)}/cancel`),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["job", name] }),
  });
  const go = useNavigate();
  const retry = useMutation({
    mutationFn: () => post<BulkResult>("/jobs/actions", { action: "retry", jobs: [name] }),
    onSuccess: ({ jobs: [again] }) => (again ? go(`/jobs/${again}`) : queries.invalidateQueries({ queryKey: ["job", name] })),
  });
  const may = useMay();
  const job = found.data;
  if (!job) return found.error ? <Trouble error={found.error} /> : <Awaiting what="the job" />;
  const manages = may("submitter", job.project);
  const attempt = job.attempts[job.attempts.length - 1];
  return (
    <>
      {found.error ? <Trouble error={found.error} /> : null}
      <Flex align="flex-start" columnGap="20px" rowGap="8px" wrap="wrap">
        <Box flex="1" minW={{ base: "100%", md: "20em" }}>
          <Lead>{waits && why.data ? why.data.message : lead(job)}</Lead>
        </Box>
        {job.state !== "done" || job.result === "success" || job.retried_as || !manages ? null : (
          <Button
            size="sm"
            title={`pennine queue retry ${job.name}`}
            loading={retry.isPending}
            onClick={() => retry.mutate()}
          >
            Submit again
          </Button>
        )}
        {job.state === "done" || !manages ? null : (
          <Button
            size="sm"
            variant="surface"
            loading={cancel.isPending}
            onClick={() => cancel.mutate()}
          >
            Cancel job
          </Button>
        )}
      </Flex>
      {job.hint ? <Box mt="4px">{job.hint}</Box> : null}
      {cancel.error ? <Trouble error={cancel.error} /> : null}
      {retry.error ? <Trouble error={retry.error} /> : null}
      <Flex columnGap="22px" rowGap="2px" mt="8px" color="quiet" wrap="wrap" data-testid="job-facts">
        <JobMark job={job} />
        <Link to={`/projects/${encodeURIComponent(job.project)}`}>{job.project}</Link>
        {job.is_of_sheet ? (
          <span>
            of <Link to={`/runs/${job.run}`}>{job.run}</Link>
          </span>
        ) : null}
        <span>{job.where ? <code>{job.where}</code> : "any runner"}</span>
        <span>
          submitted <Ago at={job.created_at} />
        </span>
        {job.band === "normal" ? null : <span>band {job.band}</span>}
        {job.trust === "untrusted" ? <span>untrusted</span> : null}
        {Object.entries(job.seats ?? {}).map(([seat, count]) => (
          <span key={seat}>
            {count} × {seat}
          </span>
        ))}
        {waits && job.give_up_at ? (
          <span>
            gives up <Until at={job.give_up_at} />
          </span>
        ) : null}
        {job.retried_as ? (
          <span>
            submitted again as <Link to={`/jobs/${job.retried_as}`}>{job.retried_as}</Link>
          </span>
        ) : null}
        {attempt?.processor_us != null ? <span>processor time {micros(attempt.processor_us)}</span> : null}
        {attempt?.peak_memory != null ? <span>largest process {size(attempt.peak_memory)}</span> : null}
      </Flex>
      <TimeBar job={job} />
      {waits && why.data ? <WhyTable why={why.data} /> : null}
      {attempt ? <LogView key={attempt.id} job={job.name} attempt={attempt.number} /> : null}
      {job.attempts.length > 1 ? <Attempts job={job} /> : null}
      {job.state === "done" ? <Compared job={job} /> : null}
      {job.state === "done" ? <Sized job={job} /> : null}
      {job.commands?.length ? <Commands job={job} /> : <Command job={job} />}
      {Object.keys(job.secrets ?? {}).length > 0 ? (
        <>
          <Heading>Secrets</Heading>
          <Box>
            {Object.entries(job.secrets ?? {})
              .map(([name, given]) => `${name} (${given})`)
              .join(", ")}
          </Box>
        </>
      ) : null}
    </>
  );
}

function Command({ job }: { job: Job }) {
  return (
    <>
      <Heading>Command</Heading>
      <Box as="pre" fontFamily="mono" fontSize="13px" whiteSpace="pre-wrap">
        {job.command.join(" ")}
      </Box>
    </>
  );
}

/** How long each command of an attempt ran, as far as is known: each ends where the next one begins, the last with the attempt. */
export function commandLengths(attempt: Job["attempts"][number]): (number | undefined)[] {
  const begun = attempt.phases?.commands_us ?? [];
  const { started_at, exited_at } = attempt;
  const whole = started_at && exited_at ? (Date.parse(exited_at) - Date.parse(started_at)) * 1000 : undefined;
  return begun.map((from, i) => {
    const until = begun[i + 1] ?? whole;
    return until === undefined ? undefined : Math.max(0, until - from);
  });
}

/** The commands of a job of a sheet, with how long each ran in the latest attempt. */
function Commands({ job }: { job: Job }) {
  const attempt = job.attempts[job.attempts.length - 1];
  const commands = job.commands ?? [];
  const lengths = attempt ? commandLengths(attempt) : [];
  const failed = attempt?.exited_at && attempt.result !== "success" ? lengths.length - 1 : -1;
  const ran = (i: number) => {
    const length = lengths[i];
    if (length !== undefined) return `${micros(length)}${i === failed ? ", ended the job" : ""}`;
    return attempt?.exited_at && lengths.length > 0 ? "not executed" : "";
  };
  return (
    <>
      <Heading>Commands</Heading>
      <List
        rows={commands.map((command, i) => ({ command, i }))}
        id={({ i }) => String(i)}
        empty=""
        columns={[
          { head: "no.", cell: ({ i }) => i + 1, width: "3em" },
          { head: "command", cell: ({ command }) => <code style={{ whiteSpace: "pre-wrap" }}>{command}</code>, wrap: true },
          { head: "ran", cell: ({ i }) => ran(i), right: true },
        ]}
      />
    </>
  );
}

/** The job beside the median of earlier ones like it, when asked for. */
function Compared({ job }: { job: Job }) {
  const [isOpen, setOpen] = useState(false);
  const compared = useComparison(job.name, isOpen);
  return (
    <Folded heading="Comparison with earlier jobs" toggle={setOpen}>
      {compared.error ? <Trouble error={compared.error} /> : compared.data ? <Parts compared={compared.data} /> : <Awaiting what="the comparison" />}
    </Folded>
  );
}

function Parts({ compared }: { compared: Comparison }) {
  const length = (us: number | null | undefined) => (us == null ? "" : micros(us));
  const difference = (one: Comparison["parts"][number]) => {
    const us = (one.this_us ?? 0) - (one.other_us ?? 0);
    return Math.abs(us) < 1000 ? "" : `${us < 0 ? "−" : "+"}${micros(Math.abs(us))}`;
  };
  return (
    <>
      <Box mb="6px">{compared.message}</Box>
      <List
        rows={compared.parts}
        id={(one) => one.part}
        empty="No parts are known."
        columns={[
          { head: "part", cell: (one) => one.part },
          { head: compared.job, cell: (one) => length(one.this_us), right: true },
          { head: compared.with.length === 1 ? (compared.with[0] ?? "other") : `median of ${compared.with.length}`, cell: (one) => length(one.other_us), right: true },
          { head: "difference", cell: difference, right: true },
        ]}
      />
    </>
  );
}

/** What the last attempts used of their machines, when asked for. */
function Sized({ job }: { job: Job }) {
  const [isOpen, setOpen] = useState(false);
  const sizing = useSizing(job.name, isOpen);
  return (
    <Folded heading="Machine size" toggle={setOpen}>
      {sizing.error ? <Trouble error={sizing.error} /> : sizing.data ? <Sizing sizing={sizing.data} /> : <Awaiting what="the figures" />}
    </Folded>
  );
}

const median = (name: string, bytes: number | null | undefined): [string, string][] =>
  bytes == null ? [] : [[name, `${size(bytes)} (p50)`]];

export function Sizing({ sizing }: { sizing: JobSizing }) {
  const { usage } = sizing;
  return (
    <Box maxW="52em">
      <Box>{sizing.message}</Box>
      {usage ? (
        <FactList
          facts={[
            ["attempts", `the last ${sizing.attempts} that succeeded`],
            ["ran", `${micros(usage.ran_p50_us)} (p50), ${micros(usage.ran_p95_us)} (p95)`],
            ...median("storage read", usage.bytes_read),
            ...median("storage written", usage.bytes_written),
          ]}
        />
      ) : null}
      {sizing.advice.map((sentence) => (
        <Box key={sentence} mt="6px">
          {sentence}
        </Box>
      ))}
    </Box>
  );
}

function WhyTable({ why }: { why: NonNullable<ReturnType<typeof useWhy>["data"]> }) {
  return (
    <Box mt="16px" maxW="52em">
      {why.remedy ? <Box>To do: {why.remedy.message}</Box> : null}
      <Flex gap="10px" my="8px" wrap="wrap" _empty={{ display: "none" }}>
        {why.actions?.map((action) => <Remedy key={action.message} action={action} />)}
      </Flex>
      {why.before > 0 ? (
        <Box color="quiet">
          {why.before} {why.before === 1 ? "job like it stands" : "jobs like it stand"} before it.
        </Box>
      ) : null}
      {why.explanation.clauses.length > 0 ? (
        <List
          rows={why.explanation.clauses}
          id={(clause) => clause.clause}
          empty=""
          columns={[
            { head: "clause", cell: (clause) => <code>{clause.clause}</code> },
            { head: "failing runners", cell: (clause) => `${clause.failing} of ${why.explanation.runners}`, right: true },
          ]}
        />
      ) : null}
    </Box>
  );
}

function Attempts({ job }: { job: Job }) {
  return (
    <>
      <Heading>Attempts</Heading>
      <List
        rows={job.attempts}
        id={(one) => one.id}
        empty=""
        columns={[
          { head: "try", cell: (one) => one.number },
          { head: "runner", cell: (one) => <Link to={`/runners/${one.runner_id}`}>{one.runner}</Link> },
          { head: "state", cell: (one) => one.result ?? one.state },
          { head: "waited", cell: (one) => micros(one.wait_us), right: true },
          { head: "result", cell: (one) => one.message ?? (one.accepted ? "accepted" : "") },
        ]}
      />
    </>
  );
}
