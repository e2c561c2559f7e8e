// Runs, newest first: the jobs of a job sheet together, and jobs that were submitted alone.
import { Box } from "@chakra-ui/react";
import { Link } from "react-router";
import type { RunLine } from "../../api/client";
import { useRuns } from "../../api/hooks";
import { List } from "../../parts/list";
import { RunMark } from "../../parts/mark";
import { useSearch } from "../../parts/search";
import { Ago } from "../../parts/time";
import { Awaiting, Trouble } from "../../parts/trouble";
import { ListFrame, useListAddress } from "./ListFrame";
import { countsText } from "./counts";

/** Where a run is shown: the one job of a run that was submitted alone is all there is to it. */
const addressOf = (run: RunLine) => (run.only_job ? `/jobs/${run.only_job}` : `/runs/${run.name}`);

export default function Runs() {
  const { project, after } = useListAddress();
  const search = useSearch();
  const runs = useRuns({ project, search, after });
  const next = runs.data?.next;
  const empty = search
    ? `No runs match${next ? " among the latest 50,000. “Older” searches on" : ""}.`
    : "No runs yet. Submit the jobs of a job sheet: pennine run submit --project PROJECT";
  return (
    <ListFrame lead="Runs, newest first" search={{ label: "Search runs", placeholder: "Title, project, branch, submitter …" }} next={next}>
      {runs.error ? <Trouble error={runs.error} /> : null}
      {runs.data ? (
        <Box mt="12px">
          <List
            rows={runs.data.items}
            id={(run) => run.id}
            empty={empty}
            columns={[
              { head: "run", cell: (run) => <Link to={addressOf(run)}>{run.name}</Link>, width: "6em" },
              { head: "title", cell: (run) => run.title },
              { head: "project", cell: (run) => <Box color="quiet">{run.project}</Box>, isMinor: true },
              { head: "branch", cell: (run) => run.branch ?? "", isMinor: true },
              { head: "state", cell: (run) => <RunMark run={run} /> },
              { head: "jobs", cell: (run) => (run.only_job ? "" : countsText(run.jobs)) },
              { head: "submitted by", cell: (run) => run.created_by, isMinor: true },
              { head: "submitted", cell: (run) => <Ago at={run.created_at} />, right: true, isMinor: true },
            ]}
          />
        </Box>
      ) : runs.error ? null : (
        <Awaiting what="the runs" />
      )}
    </ListFrame>
  );
}
