// Jobs, newest first: jobs of runs, and jobs that were submitted alone.
import { Box, Button, Flex } from "@chakra-ui/react";
import { useJobs } from "../../api/hooks";
import { JobList } from "../../parts/jobs";
import { useSearch } from "../../parts/search";
import { Awaiting, Trouble } from "../../parts/trouble";
import { ListFrame, useListAddress } from "./ListFrame";

const STATES = ["held", "pending", "executing", "finalizing", "done"];

export default function Jobs() {
  const { state, project, after, look } = useListAddress();
  const search = useSearch();
  const jobs = useJobs({ state, project, search, after });
  const next = jobs.data?.next;
  const empty =
    search || state
      ? `No jobs match${next ? " among the latest 50,000. “Older” searches on" : ""}.`
      : "No jobs yet. Submit a job to begin.";
  return (
    <ListFrame lead="Jobs, newest first" search={{ label: "Search jobs", placeholder: "Title, project, runner, result …" }} next={next}>
      <Flex gap="8px" mt="10px" wrap="wrap" role="group" aria-label="State">
        {STATES.map((one) => (
          <Button key={one} aria-pressed={state === one} onClick={() => look({ state: state === one ? null : one })}>
            {one}
          </Button>
        ))}
      </Flex>
      {jobs.error ? <Trouble error={jobs.error} /> : null}
      {jobs.data ? (
        <Box mt="12px">
          <JobList jobs={jobs.data.items} empty={empty} />
        </Box>
      ) : jobs.error ? null : (
        <Awaiting what="the jobs" />
      )}
    </ListFrame>
  );
}
