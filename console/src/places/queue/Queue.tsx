// Queue: the waiting jobs by why they wait and what is missing, each with its remedy. With a reason in the address, its strands page
// by page.
import { Box, Button, Flex, NativeSelect } from "@chakra-ui/react";
import { Link, useSearchParams } from "react-router";
import { useProjects, useQueue, useStatus, useTeams } from "../../api/hooks";
import { AnswerLine } from "../../parts/answer";
import { counted } from "../../parts/count";
import { Awaiting, Trouble } from "../../parts/trouble";
import { Group } from "./Group";
import { Progress } from "./Progress";
import { TryOut } from "./TryOut";

/** The address of the queue with some of its conditions changed; another part of it begins with its longest waits. */
function addressOf(now: URLSearchParams, changes: Record<string, string | null>): string {
  const params = new URLSearchParams(now);
  for (const [name, value] of Object.entries({ after: null, ...changes })) {
    if (value === null) params.delete(name);
    else params.set(name, value);
  }
  return `/queue?${params}`;
}

export default function Queue() {
  const [params, setParams] = useSearchParams();
  const condition = (name: string) => params.get(name) ?? undefined;
  const [reason, team, project] = ["reason", "team", "project"].map(condition);
  const queue = useQueue({ reason, cause: condition("cause"), team, project, after: condition("after") });
  const status = useStatus();
  const data = queue.data;
  const next = data?.next;
  const look = (changes: Record<string, string | null>) => setParams(new URL(addressOf(params, changes), location.href).searchParams);
  return (
    <>
      {queue.error ? <Trouble error={queue.error} /> : null}
      {status.data ? <AnswerLine pieces={status.data.pieces} /> : null}
      <Flex mt="12px" gap="12px" align="center" wrap="wrap">
        <PlaceSelect team={team} project={project} select={look} />
        {reason ? <Link to={addressOf(params, { reason: null, cause: null })}>All reasons</Link> : null}
      </Flex>
      <Progress />
      {data?.groups.length === 0 ? (
        <Box color="quiet" mt="18px">
          {reason || team || project
            ? "No waiting jobs match."
            : "Waiting jobs are listed here by reason, each with its remedy."}
        </Box>
      ) : null}
      {data?.groups.map((group) => (
        <Group
          key={`${group.reason} ${group.cause}`}
          group={group}
          all={reason ? undefined : addressOf(params, { reason: group.reason, cause: group.cause ?? "" })}
        />
      ))}
      {data || queue.error ? null : <Awaiting what="the queue" />}
      {data?.more_groups ? (
        <Box color="quiet" mt="18px">
          {counted(data.more_groups, "further group")} with shorter waits not listed: choose a team or a project.
        </Box>
      ) : null}
      <Flex gap="12px" mt="12px">
        {condition("after") ? <Button onClick={() => look({})}>Longest waits</Button> : null}
        {next ? <Button onClick={() => look({ after: next })}>Next page</Button> : null}
      </Flex>
      <TryOut />
    </>
  );
}

type PlaceSelectProps = {
  team: string | undefined;
  project: string | undefined;
  select: (changes: Record<string, string | null>) => void;
};

/** Chooses whose jobs are shown. */
function PlaceSelect({ team, project, select }: PlaceSelectProps) {
  const teams = useTeams().data?.items ?? [];
  const projects = useProjects().data?.items ?? [];
  const change = (value: string) => {
    const [kind, path] = value.split(" ");
    select({ team: kind === "team" ? (path ?? null) : null, project: kind === "project" ? (path ?? null) : null });
  };
  const chosen = team ? `team ${team}` : project ? `project ${project}` : "";
  return (
    <NativeSelect.Root size="sm" w={{ base: "100%", sm: "18em" }}>
      <NativeSelect.Field aria-label="Team or project" value={chosen} onChange={(event) => change(event.target.value)}>
        <option value="">All teams and projects</option>
        {teams.map(({ path }) => (
          <option key={path} value={`team ${path}`}>
            Team {path}
          </option>
        ))}
        {projects.map(({ path }) => (
          <option key={path} value={`project ${path}`}>
            Project {path}
          </option>
        ))}
      </NativeSelect.Field>
      <NativeSelect.Indicator />
    </NativeSelect.Root>
  );
}
