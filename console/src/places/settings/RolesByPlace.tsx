// Who has which role where, as the tree of places: people, groups of the sign-in provider, and tokens of programs.
import { Box } from "@chakra-ui/react";
import type { Schemas } from "../../api/client";
import { useGroupGrants, useTokens } from "../../api/hooks";
import { placeName } from "../../api/may";
import { Heading, List } from "../../parts/list";
import { usePlaces } from "./grants";
import { ROLES } from "./roles";

type Person = Schemas["Person"];

/** One who has a role at a place. */
interface Holder {
  place: string;
  role: string;
  called: string;
}

/** Everyone with a role, as far as it is shown. */
export function holders(people: Person[], groups: Schemas["GroupGrant"][], tokens: Schemas["Token"][]): Holder[] {
  return [
    ...people.flatMap(({ name, grants }) => grants.map(({ role, place }) => ({ role, place, called: name }))),
    ...groups.map(({ group, role, place }) => ({ role, place, called: `group ${group}` })),
    ...tokens.filter(({ owner, state }) => !owner && state === "valid").map(({ name, role, place }) => ({ role, place, called: `token ${name}` })),
  ];
}

const depth = (path: string) => (path === "" ? 0 : path.split("/").length);

export function RolesByPlace({ people }: { people: Person[] }) {
  const known = usePlaces().slice(1);
  const all = holders(people, useGroupGrants().data?.items ?? [], useTokens("").data?.items ?? []);
  const places = [...new Set([...known, ...all.map(({ place }) => place)])].toSorted();
  const isWhole = places[0] === "";
  return (
    <>
      <Heading>Roles by place</Heading>
      <Box color="quiet" maxW="60em" mb="8px">
        A role at a place is valid for everything below it too.
      </Box>
      <List
        rows={places}
        id={(path) => path || "/"}
        empty="No places to show."
        columns={[
          {
            head: "place",
            cell: (path) => (
              <Box pl={`${Math.max(depth(path) - (isWhole ? 0 : 1), 0) * 18}px`} fontWeight={path === "" ? "bold" : undefined}>
                {path === "" ? placeName(path) : path.split("/").at(-1)}
              </Box>
            ),
          },
          ...ROLES.toReversed().map(({ value }) => ({
            head: value,
            cell: (path: string) =>
              all
                .filter(({ place, role }) => place === path && role === value)
                .map(({ called }) => called)
                .join(", "),
          })),
        ]}
      />
    </>
  );
}
