// Teams and projects as a tree: their weights, limits and give-up times; added, changed and removed.
import { Box, Button, Flex } from "@chakra-ui/react";
import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { post, remove, send } from "../../api/client";
import type { Place, Schemas } from "../../api/client";
import { useProjects, useTeams } from "../../api/hooks";
import { placeName, useMay } from "../../api/may";
import { Ask } from "../../parts/act";
import { number } from "../../parts/count";
import { FormDialog } from "../../parts/form/Form";
import { Row, SelectField, TextField } from "../../parts/form/fields";
import { useForm } from "../../parts/form/state";
import type { Errors, Values } from "../../parts/form/state";
import { TIME_ERROR, readCount, readTime, writeTime } from "../../parts/form/values";
import { KeptInFile } from "../../parts/kept";
import { Heading, List } from "../../parts/list";
import { SearchBox, contains, useSearch } from "../../parts/search";
import { micros } from "../../parts/time";
import { Awaiting, Trouble } from "../../parts/trouble";

type Kind = "team" | "project";

/** The path of the place above; the root's is empty. */
const above = (path: string) => path.slice(0, Math.max(0, path.lastIndexOf("/")));

const addressOf = (place: Place) => `/places/${encodeURIComponent(place.path)}`;

export function Places() {
  const [teams, projects] = [useTeams(), useProjects()];
  const may = useMay();
  const search = useSearch();
  const [adding, setAdding] = useState<Kind>();
  const [changing, setChanging] = useState<Place>();
  const all = [...(teams.data?.items ?? []), ...(projects.data?.items ?? [])].toSorted((a, b) => a.path.localeCompare(b.path));
  const shown = all.filter(({ path, kind }) => contains(search, path, kind));
  const error = teams.error ?? projects.error;
  const parents = all.filter((place) => place.kind === "team" && may("operator", place.path));
  return (
    <>
      <Heading
        beside={
          <>
            {may("operator", "") || parents.length > 0 ? <Button onClick={() => setAdding("team")}>Add team</Button> : null}
            {parents.length > 0 ? <Button onClick={() => setAdding("project")}>Add project</Button> : null}
            <SearchBox label="Search teams and projects" placeholder="Name or path" />
          </>
        }
      >
        Teams and projects
      </Heading>
      <Box color="quiet" maxW="60em" mb="8px">
        Teams beside each other share runners by their weights. A limit is the most slots that a team or project holds at once, with
        everything below it. A team&apos;s own weight and limit are set by operators of the place above it.
      </Box>
      {adding ? <AddPlace kind={adding} teams={parents} close={() => setAdding(undefined)} /> : null}
      {changing ? <ChangePlace place={changing} close={() => setChanging(undefined)} /> : null}
      {error ? <Trouble error={error} /> : null}
      {teams.data && projects.data ? (
        <List
          rows={shown}
          id={(place) => place.id}
          empty={all.length === 0 ? "No teams yet. Add a team, then a project for its jobs." : "No teams or projects match. Shorten or clear the search."}
          columns={[
            {
              head: "name",
              cell: (place) => (
                <Flex align="baseline" gap="10px" pl={search ? undefined : `${(place.path.split("/").length - 1) * 22}px`}>
                  <Box as="span" fontWeight={place.kind === "team" ? "600" : "400"}>
                    {place.kind === "project" ? (
                      <Link to={`/projects/${encodeURIComponent(place.path)}`}>{search ? place.path : place.name}</Link>
                    ) : search ? (
                      place.path
                    ) : (
                      place.name
                    )}
                  </Box>
                  <KeptInFile kind={place.kind as Kind} name={place.path} isBrief />
                </Flex>
              ),
            },
            { head: "kind", cell: (place) => place.kind },
            { head: "weight", cell: (place) => number(place.weight), right: true },
            { head: "slots used", cell: (place) => number(place.held), right: true },
            { head: "limit", cell: (place) => (place.limit == null ? "none" : number(place.limit)), right: true },
            {
              head: "jobs give up after",
              cell: (place) => (place.give_up_us == null ? "" : micros(place.give_up_us)),
              right: true,
              isMinor: true,
            },
            {
              head: "",
              cell: (place) =>
                may("operator", above(place.path)) ? (
                  <Flex gap="6px" justify="flex-end">
                    <Button aria-label={`Change ${place.path}`} onClick={() => setChanging(place)}>
                      Change
                    </Button>
                    <Ask
                      word="Remove"
                      label={`Remove the ${place.kind} ${place.path}`}
                      action={`Remove ${place.kind}`}
                      act={() => remove(addressOf(place))}
                      stale={[place.kind === "team" ? "teams" : "projects"]}
                    >
                      Only an empty {place.kind} is removed: one without projects, pools, tokens and open jobs. What ended stays on record.
                    </Ask>
                  </Flex>
                ) : null,
              right: true,
            },
          ]}
        />
      ) : error ? null : (
        <Awaiting what="the teams" />
      )}
    </>
  );
}

function AddPlace({ kind, teams, close }: { kind: Kind; teams: Place[]; close: () => void }) {
  const queries = useQueryClient();
  const may = useMay();
  const parents = [...(kind === "team" && may("operator", "") ? [""] : []), ...teams.map(({ path }) => path)];
  const form = useForm({
    initial: { name: "", parent: parents[0] ?? "" },
    check: ({ name }) => ({ name: /^[\w-]+$/.test(name ?? "") ? undefined : "Enter a name of letters, digits, - and _." }),
    send: ({ name, parent }) =>
      kind === "team"
        ? post<Place>("/teams", { name, ...(parent ? { parent } : {}) })
        : post<Place>("/projects", { name, team: parent }),
    done: async () => {
      close();
      await queries.invalidateQueries({ queryKey: [kind === "team" ? "teams" : "projects"] });
    },
  });
  return (
    <FormDialog title={`Add a ${kind}`} form={form} submit={`Add ${kind}`} close={close}>
      <TextField name="name" label="Name" isRequired autoFocus hint="Letters, digits, - and _." />
      <SelectField
        name="parent"
        label={kind === "team" ? "Part of" : "Team"}
        options={parents.map((path) => ({ value: path, label: path || "no other team" }))}
      />
    </FormDialog>
  );
}

const check = (values: Values): Errors => {
  const weight = readCount(values.weight ?? "");
  return {
    weight: weight && weight <= 1000 ? undefined : "Enter a whole number, 1 to 1000.",
    limit: values.limit?.trim() && readCount(values.limit) === undefined ? "Enter a whole number of slots, or nothing." : undefined,
    give_up: values.give_up?.trim() && readTime(values.give_up) === undefined ? TIME_ERROR : undefined,
  };
};

/** What was changed of a place, as the service takes it; null removes a limit or a give-up time. */
function changeOf(values: Values, before: Values): Schemas["PlaceChange"] {
  const change: Record<string, number | null> = {};
  if (values.weight !== before.weight) change["weight"] = Number(values.weight);
  if (values.limit !== before.limit) change["limit"] = values.limit?.trim() ? Number(values.limit) : null;
  if (values.give_up !== before.give_up) change["give_up_us"] = values.give_up?.trim() ? (readTime(values.give_up) ?? null) : null;
  return change;
}

export function ChangePlace({ place, close }: { place: Place; close: () => void }) {
  const queries = useQueryClient();
  const key = [place.kind === "team" ? "teams" : "projects"];
  const initial = {
    weight: String(place.weight),
    limit: place.limit == null ? "" : String(place.limit),
    give_up: place.give_up_us == null ? "" : writeTime(place.give_up_us),
  };
  const form = useForm({
    initial,
    check,
    send: async (values) => {
      try {
        return await send<Place>("PATCH", addressOf(place), changeOf(values, initial), place.settings_version);
      } finally {
        // Where it has changed meanwhile, what it is now is shown beside the refusal; what was typed stays.
        void queries.invalidateQueries({ queryKey: key });
      }
    },
    done: close,
  });
  return (
    <FormDialog title={`Change the ${place.kind} ${place.path}`} form={form} submit={`Change ${place.kind}`} close={close}>
      <Row>
        <TextField name="weight" label="Weight" width="8em" inputMode="numeric" hint={`Its share beside others of ${placeName(above(place.path))}.`} />
        <TextField name="limit" label="Limit" width="9em" inputMode="numeric" unit="slots" hint="Empty: none." />
        <TextField name="give_up" label="Jobs give up after" width="11em" hint="Such as 2h. Empty: never." />
      </Row>
    </FormDialog>
  );
}
