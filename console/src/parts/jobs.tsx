// Jobs in a list.
import { Box } from "@chakra-ui/react";
import { Link } from "react-router";
import type { JobLine } from "../api/client";
import { List } from "./list";
import { JobMark } from "./mark";
import { Ago, Since, micros } from "./time";

/** How long a job's command ran, counting on while it runs. */
function Ran({ job }: { job: JobLine }) {
  if (job.state === "executing" && job.started_at) return <Since at={job.started_at} />;
  return <>{job.ran_us == null ? "" : micros(job.ran_us)}</>;
}

export function JobList({ jobs, empty }: { jobs: JobLine[]; empty: React.ReactNode }) {
  return (
    <List
      rows={jobs}
      id={(job) => job.id}
      empty={empty}
      columns={[
        { head: "job", cell: (job) => <Link to={`/jobs/${job.name}`}>{job.name}</Link>, width: "6em" },
        { head: "title", cell: (job) => job.title },
        { head: "project", cell: (job) => <Box color="quiet">{job.project}</Box>, isMinor: true },
        { head: "state", cell: (job) => <JobMark job={job} /> },
        { head: "runner", cell: (job) => job.runner ?? "", isMinor: true },
        { head: "waited", cell: (job) => micros(job.wait_us), right: true },
        { head: "ran", cell: (job) => <Ran job={job} />, right: true, isMinor: true },
        { head: "submitted", cell: (job) => <Ago at={job.created_at} />, right: true, isMinor: true },
      ]}
    />
  );
}
