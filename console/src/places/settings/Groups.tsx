// Groups of the sign-in provider: the role that each gives at a place to the people in it.
import { Box, Button } from "@chakra-ui/react";
import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { post } from "../../api/client";
import type { Schemas } from "../../api/client";
import { useGroupGrants, useSignInOptions } from "../../api/hooks";
import { placeName } from "../../api/may";
import { Ask } from "../../parts/act";
import { FormDialog } from "../../parts/form/Form";
import { TextField } from "../../parts/form/fields";
import { useForm } from "../../parts/form/state";
import { Heading, List } from "../../parts/list";
import { Trouble } from "../../parts/trouble";
import { GrantFields, useManagedPlaces } from "./grants";

type GroupGrant = Schemas["GroupGrant"];

/** Shown where people sign in through a provider, or groups have a role although none is configured. */
export function Groups() {
  const grants = useGroupGrants();
  const provider = useSignInOptions().data?.provider;
  const managed = useManagedPlaces();
  const [granting, setGranting] = useState(false);
  const all = grants.data?.items ?? [];
  if (!provider && all.length === 0) return null;
  return (
    <>
      <Heading beside={managed.length > 0 ? <Button onClick={() => setGranting(true)}>Grant group role</Button> : null}>
        Roles of groups
      </Heading>
      <Box color="quiet" maxW="60em" mb="8px">
        {provider ? `${provider} reports the groups of each person who signs in through it.` : "No sign-in provider is configured, so that these roles have no effect."}{" "}
        Everyone in a group has its roles, beside their own.
      </Box>
      {granting ? <GrantToGroup places={managed} close={() => setGranting(false)} /> : null}
      {grants.error ? <Trouble error={grants.error} /> : null}
      <List
        rows={all}
        id={({ group, place }) => `${place}/${group}`}
        empty="No group has a role. Grant a group a role, so that its people need none of their own."
        columns={[
          { head: "group", cell: ({ group }) => <b>{group}</b> },
          { head: "role", cell: ({ role }) => role },
          { head: "valid at", cell: ({ place }) => placeName(place) },
          { head: "", cell: (grant) => (managed.includes(grant.place) ? <RevokeFromGroup grant={grant} /> : null), right: true },
        ]}
      />
    </>
  );
}

function RevokeFromGroup({ grant: { group, role, place } }: { grant: GroupGrant }) {
  return (
    <Ask
      word="Revoke"
      label={`Revoke ${role} of ${placeName(place)} from the group ${group}`}
      action="Revoke role"
      act={() => post("/groups/revoke", { group, place })}
      stale={["groups", "people"]}
    >
      The people in {group} can no longer do there what this role permits, from now on, unless another role permits it.
    </Ask>
  );
}

function GrantToGroup({ places, close }: { places: string[]; close: () => void }) {
  const queries = useQueryClient();
  const form = useForm({
    initial: { group: "", role: "viewer", place: places[0] ?? "" },
    check: ({ group }) => ({ group: (group ?? "").trim() === "" ? "Enter the group's name." : undefined }),
    send: ({ group, role, place }) => post<GroupGrant>("/groups", { group: group?.trim(), role, place }),
    done: async () => {
      close();
      await Promise.all(["groups", "people"].map((key) => queries.invalidateQueries({ queryKey: [key] })));
    },
  });
  return (
    <FormDialog title="Grant a role to a group" form={form} submit="Grant role" close={close}>
      <TextField name="group" label="Group" isRequired autoFocus placeholder="shore-engineers" hint="Its name as the sign-in provider writes it." />
      <GrantFields places={places} hint="It replaces the role that the group has at the same place." />
    </FormDialog>
  );
}
