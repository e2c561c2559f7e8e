// One run: what it amounts to, its jobs as a graph, and what each of them waits for.
import { Box, Button, Flex } from "@chakra-ui/react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Link, Navigate, useParams } from "react-router";
import { post } from "../../api/client";
import type { Run, RunJob } from "../../api/client";
import { useRun } from "../../api/hooks";
import { useMay } from "../../api/may";
import { Act, Ask } from "../../parts/act";
import { Lead } from "../../parts/answer";
import { Heading, List } from "../../parts/list";
import { JobMark, RunMark } from "../../parts/mark";
import { Ago, micros } from "../../parts/time";
import { Awaiting, Trouble } from "../../parts/trouble";
import { RunGraph } from "./RunGraph";
import { countsText } from "./counts";

/** What a run amounts to, in a sentence. */
export function runLead(run: Run): string {
  const about = `${run.name} “${run.title}”`;
  const counts = countsText(run.jobs);
  if (run.overtaken_by) return `${about} was overtaken by ${run.overtaken_by}: ${counts}.`;
  if (run.state === "done") return `${about} is done with ${run.result}: ${counts}.`;
  const held = run.graph.filter(({ needs_release, held_for }) => needs_release && held_for?.includes("person"));
  const [first] = held;
  if (run.state === "held" && first) return `${about} waits for a person to release “${first.job.title}”.`;
  return `${about}: ${counts}.`;
}

/** What a job waits for, or why it ended as it did. */
const reasonOf = ({ job, held_for, message }: RunJob) =>
  job.state === "held" ? held_for : job.state === "done" && job.result !== "success" ? message : undefined;

export default function RunPage() {
  const { run: name = "" } = useParams();
  const found = useRun(name);
  const may = useMay();
  const queries = useQueryClient();
  const path = `/runs/${encodeURIComponent(name)}`;
  const retry = useMutation({
    mutationFn: () => post<Run>(`${path}/retry`, {}),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["run", name] }),
  });
  const run = found.data;
  if (!run) return found.error ? <Trouble error={found.error} /> : <Awaiting what="the run" />;
  if (run.only_job) return <Navigate to={`/jobs/${run.only_job}`} replace />;
  const manages = may("submitter", run.project);
  const hasFailed = run.jobs.failure + run.jobs.cancellation + run.jobs.skip > 0;
  const values = Object.entries(run.values ?? {});
  const jobs = run.graph.toSorted((a, b) => a.step - b.step);
  const critical = run.critical_path ?? [];
  return (
    <>
      {found.error ? <Trouble error={found.error} /> : null}
      <Flex align="flex-start" columnGap="20px" rowGap="8px" wrap="wrap">
        <Box flex="1" minW={{ base: "100%", md: "20em" }}>
          <Lead>{runLead(run)}</Lead>
        </Box>
        {manages && hasFailed ? (
          <Button size="sm" title={`pennine run retry ${run.name}`} loading={retry.isPending} onClick={() => retry.mutate()}>
            Retry unsuccessful jobs
          </Button>
        ) : null}
        {manages && run.state !== "done" ? (
          <Ask word="Cancel run" label={`Cancel ${run.name}`} action="Cancel run" act={() => post(`${path}/cancel`)} stale={["run"]}>
            Jobs that wait end at once; those that execute are asked to end, and are killed after 10 s.
          </Ask>
        ) : null}
      </Flex>
      {retry.error ? <Trouble error={retry.error} /> : null}
      <Flex columnGap="22px" rowGap="2px" mt="8px" color="quiet" wrap="wrap" data-testid="run-facts">
        <RunMark run={run} />
        <Link to={`/projects/${encodeURIComponent(run.project)}`}>{run.project}</Link>
        {run.branch ? <span>branch {run.branch}</span> : null}
        {run.repository ? <span>repository {run.repository}</span> : null}
        {run.revision ? <span title={run.revision}>revision {run.revision.slice(0, 12)}</span> : null}
        <span>
          submitted <Ago at={run.created_at} /> by {run.created_by}
        </span>
        {run.overtaken_by ? (
          <span>
            overtaken by <Link to={`/runs/${run.overtaken_by}`}>{run.overtaken_by}</Link>
          </span>
        ) : null}
        {values.map(([key, value]) => (
          <code key={key}>
            {key}={value}
          </code>
        ))}
      </Flex>
      {run.overridden?.length ? (
        <Box mt="4px" color="bracken">
          Overrides of this run: {run.overridden.join("; ")}
        </Box>
      ) : null}
      <RunGraph jobs={run.graph} critical={critical} />
      <Heading>Jobs</Heading>
      <List
        rows={jobs}
        id={({ job }) => job.id}
        empty="No jobs."
        columns={[
          { head: "step", cell: ({ step }) => step, width: "3em", isMinor: true },
          { head: "job", cell: ({ job }) => <Link to={`/jobs/${job.name}`}>{job.name}</Link>, width: "6em" },
          { head: "title", cell: ({ job }) => (critical.includes(job.name) ? <b title="on the critical path">{job.title}</b> : job.title) },
          { head: "state", cell: ({ job }) => <JobMark job={job} /> },
          { head: "reason", cell: (one) => reasonOf(one) ?? "", wrap: true, width: "16em" },
          { head: "runner", cell: ({ job }) => job.runner ?? "", isMinor: true },
          { head: "waited", cell: ({ job }) => (job.started_at ? micros(job.wait_us) : ""), right: true, isMinor: true },
          { head: "ran", cell: ({ job }) => (job.ran_us == null ? "" : micros(job.ran_us)), right: true },
          {
            head: "",
            cell: ({ job, needs_release }) =>
              needs_release && manages ? (
                <Act
                  word="Release"
                  label={`Release ${job.title}`}
                  act={() => post(`/jobs/${encodeURIComponent(job.name)}/release`)}
                  stale={["run"]}
                />
              ) : null,
            right: true,
          },
        ]}
      />
    </>
  );
}
