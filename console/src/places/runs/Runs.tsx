// Runs: jobs, newest first, and submitting one.
import { Box, Button, Flex } from "@chakra-ui/react";
import { useState } from "react";
import { useSearchParams } from "react-router";
import { useJobs } from "../../api/hooks";
import { Lead } from "../../parts/answer";
import { JobList } from "../../parts/jobs";
import { Awaiting, Trouble } from "../../parts/trouble";
import { SubmitJob } from "./SubmitJob";

const STATES = ["", "pending", "executing", "finalizing", "done"];

export default function Runs() {
  const [params, setParams] = useSearchParams();
  const state = params.get("state") ?? "";
  const after = params.get("after");
  const jobs = useJobs(state, after);
  const [submitting, setSubmitting] = useState(false);
  if (!jobs.data) return jobs.error ? <Trouble error={jobs.error} /> : <Awaiting what="the jobs" />;
  const next = jobs.data.next;
  return (
    <>
      {jobs.error ? <Trouble error={jobs.error} /> : null}
      <Flex align="center" gap="18px">
        <Lead>Jobs, newest first</Lead>
        <Box asChild bg="sheet" border="1px solid" borderColor="rule" borderRadius="3px" p="4px 8px">
          <select
            data-filter
            aria-label="State"
            value={state}
            onChange={(event) => setParams(event.target.value ? { state: event.target.value } : {})}
          >
            {STATES.map((one) => (
              <option key={one} value={one}>
                {one || "any state"}
              </option>
            ))}
          </select>
        </Box>
        <Button size="sm" variant="outline" borderColor="rule" color="ink" onClick={() => setSubmitting(!submitting)}>
          Submit a job
        </Button>
      </Flex>
      {submitting ? <SubmitJob close={() => setSubmitting(false)} /> : null}
      <Box mt="12px">
        <JobList jobs={jobs.data.items} empty={state ? `No jobs are ${state}.` : "No jobs yet. Submit one to begin."} />
      </Box>
      <Flex gap="12px" mt="12px">
        {after ? (
          <Button size="xs" variant="outline" borderColor="rule" color="ink" onClick={() => setParams(state ? { state } : {})}>
            Newest
          </Button>
        ) : null}
        {next ? (
          <Button
            size="xs"
            variant="outline"
            borderColor="rule"
            color="ink"
            onClick={() => setParams(state ? { state, after: next } : { after: next })}
          >
            Older
          </Button>
        ) : null}
      </Flex>
    </>
  );
}
