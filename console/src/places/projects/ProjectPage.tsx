// A project: the pools that it may use, by which grant, and whom to ask for the others.
import { Box, Flex } from "@chakra-ui/react";
import { Link, useParams } from "react-router";
import type { Schemas } from "../../api/client";
import { useProject } from "../../api/hooks";
import { Lead } from "../../parts/answer";
import { Heading, List } from "../../parts/list";
import { Awaiting, Trouble } from "../../parts/trouble";

type View = Schemas["ProjectView"];
type ProjectPool = Schemas["ProjectPool"];

/** How a project may use a pool, in words. */
export function accessText({ access, by }: Pick<ProjectPool, "access" | "by">): string {
  switch (access) {
    case "of-owner":
      return by ? `owned by ${by}` : "for all teams";
    case "narrowed":
      return `narrowed to ${by}`;
    case "widened":
      return `widened to ${by}`;
    case "needs-approval":
      return "needs approval";
    default:
      return "out of reach";
  }
}

const jobs = (n: number) => (n === 1 ? "1 job waits" : `${n} jobs wait`);

/** The answer: how many pools there are for its jobs, and how many wait. */
export function leadText({ project, pools, waiting }: View): string {
  const open = pools.filter(({ access }) => access !== "needs-approval");
  const free = open.reduce((sum, pool) => sum + pool.free, 0);
  const slots = open.reduce((sum, pool) => sum + pool.slots, 0);
  const many = open.length === 1 ? "1 pool" : `${open.length} pools`;
  const use = open.length === 0 ? "may use no pools" : `may use ${many}, with ${free} of ${slots} slots free`;
  return `${project.path} ${use}. ${waiting === 0 ? "None of its jobs waits." : `${jobs(waiting)}.`}`;
}

export default function ProjectPage() {
  const { project: name = "" } = useParams();
  const { data, error } = useProject(name);
  if (!data) return error ? <Trouble error={error} /> : <Awaiting what="the project" />;
  const { project, pools, out_of_reach: others } = data;
  const asked = pools.filter(({ ask }) => ask);
  return (
    <>
      {error ? <Trouble error={error} /> : null}
      <Lead>{leadText(data)}</Lead>
      <Flex gap="22px" mt="8px" color="quiet" wrap="wrap">
        <span>weight {project.weight}</span>
        <span>
          {project.held === 1 ? "1 slot" : `${project.held} slots`} used{project.limit == null ? "" : ` of at most ${project.limit}`}
        </span>
        <Link to={`/queue?${new URLSearchParams({ project: project.path })}`}>waiting jobs</Link>
        <Link to={`/jobs?${new URLSearchParams({ project: project.path })}`}>jobs</Link>
        <Link to={`/trends?${new URLSearchParams({ project: project.path })}`}>trends</Link>
      </Flex>
      <Heading>Pools</Heading>
      <List
        rows={pools}
        id={({ pool }) => pool}
        empty="The project may use no pools yet. Ask an operator of a pool below, or add a pool for its team."
        columns={[
          { head: "pool", cell: ({ pool }) => <Link to={`/pools/${encodeURIComponent(pool)}`}>{pool}</Link> },
          { head: "access", cell: accessText },
          { head: "free slots", cell: ({ free, slots }) => `${free} of ${slots}`, right: true },
          { head: "its waiting jobs", cell: ({ waiting }) => waiting, right: true },
          { head: "labels", cell: ({ labels }) => labels.join(", ") },
          { head: "machines", cell: ({ machines }) => machines.join(", "), isMinor: true },
        ]}
      />
      {asked.map(({ pool, ask }) => (
        <Box key={pool} mt="8px">
          For {pool}, ask {ask}.
        </Box>
      ))}
      {others.length > 0 ? (
        <>
          <Heading>Out of its reach</Heading>
          <List
            rows={others}
            id={({ pool }) => pool}
            empty=""
            columns={[
              { head: "pool", cell: ({ pool }) => <Link to={`/pools/${encodeURIComponent(pool)}`}>{pool}</Link> },
              { head: "description", cell: ({ description }) => description },
              { head: "labels", cell: ({ labels }) => labels.join(", ") },
              { head: "ask", cell: ({ ask }) => ask },
            ]}
          />
        </>
      ) : null}
    </>
  );
}
