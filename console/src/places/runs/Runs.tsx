// Runs: jobs, newest first, and submitting one.
import { Box, Button, Flex } from "@chakra-ui/react";
import { Suspense, lazy, useState } from "react";
import { useSearchParams } from "react-router";
import { useJobs } from "../../api/hooks";
import { useMay } from "../../api/may";
import { Lead } from "../../parts/answer";
import { JobList } from "../../parts/jobs";
import { SearchBox, useSearch } from "../../parts/search";
import { Awaiting, Trouble } from "../../parts/trouble";

const SubmitJob = lazy(() => import("./SubmitJob").then(({ SubmitJob }) => ({ default: SubmitJob })));

const STATES = ["pending", "executing", "finalizing", "done"];

export default function Runs() {
  const [params, setParams] = useSearchParams();
  const state = params.get("state") ?? "";
  const after = params.get("after");
  const search = useSearch();
  const jobs = useJobs(state, search, after);
  const may = useMay();
  const [submitting, setSubmitting] = useState(false);
  /** The address with some of it changed; another list begins with its newest jobs. */
  const look = (changes: Record<string, string | null>) =>
    setParams((now) => {
      for (const [name, value] of Object.entries({ after: null, ...changes })) {
        if (value) now.set(name, value);
        else now.delete(name);
      }
      return now;
    });
  const next = jobs.data?.next;
  const empty =
    search || state
      ? `No jobs match${next ? " among the latest 50,000. “Older” searches on" : ""}.`
      : "No jobs yet. Submit a job to begin.";
  return (
    <>
      <Flex align="center" columnGap="18px" rowGap="10px" wrap="wrap">
        <Lead>Jobs, newest first</Lead>
        <Box flex="1" />
        <SearchBox label="Search jobs" placeholder="Title, project, runner, result …" drop={["after"]} />
        {may("submitter") ? (
          <Button size="sm" variant="solid" onClick={() => setSubmitting(true)}>
            Submit a job
          </Button>
        ) : null}
      </Flex>
      <Flex gap="8px" mt="10px" wrap="wrap" role="group" aria-label="State">
        {STATES.map((one) => (
          <Button key={one} aria-pressed={state === one} onClick={() => look({ state: state === one ? null : one })}>
            {one}
          </Button>
        ))}
      </Flex>
      {submitting ? (
        <Suspense fallback={<Awaiting what="the form" />}>
          <SubmitJob close={() => setSubmitting(false)} />
        </Suspense>
      ) : null}
      {jobs.error ? <Trouble error={jobs.error} /> : null}
      {jobs.data ? (
        <Box mt="12px">
          <JobList jobs={jobs.data.items} empty={empty} />
        </Box>
      ) : jobs.error ? null : (
        <Awaiting what="the jobs" />
      )}
      <Flex gap="12px" mt="12px">
        {after ? <Button onClick={() => look({})}>Newest</Button> : null}
        {next ? <Button onClick={() => look({ after: next })}>Older</Button> : null}
      </Flex>
    </>
  );
}
