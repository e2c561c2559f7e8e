// Secrets of the jobs of a place or of a pool: set and removed by its administrators, and never shown again.
import { Box, Button, Flex } from "@chakra-ui/react";
import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { post } from "../../api/client";
import type { Schemas } from "../../api/client";
import { useSecrets } from "../../api/hooks";
import { useMay } from "../../api/may";
import { Ask } from "../../parts/act";
import { FormDialog } from "../../parts/form/Form";
import { LinesField, SelectField, TextField } from "../../parts/form/fields";
import { useForm } from "../../parts/form/state";
import { Heading, List } from "../../parts/list";
import { SearchBox, contains, useSearch } from "../../parts/search";
import { Ago } from "../../parts/time";
import { Awaiting, Trouble } from "../../parts/trouble";
import { chosenOwner, ownerName, ownerOf, ownerValue, useOwners } from "./owner";

type Secret = Schemas["Secret"];

/** The names that are written in a list. */
export const listed = (text: string) => text.split(/[\s,]+/).filter((name) => name !== "");

export function Secrets() {
  const secrets = useSecrets();
  const may = useMay();
  const search = useSearch();
  const [setting, setSetting] = useState<Partial<Secret>>();
  const all = secrets.data?.items ?? [];
  const shown = all.filter((one) => contains(search, one.name, ownerName(one), one.reference ?? ""));
  return (
    <>
      <Heading
        beside={
          <>
            {may("admin") ? <Button onClick={() => setSetting({})}>Set secret</Button> : null}
            <SearchBox label="Search secrets" placeholder="Name, place or pool" />
          </>
        }
      >
        Secrets
      </Heading>
      <Box color="quiet" maxW="60em" mb="8px">
        Trusted jobs of the place and of the places below it, or those in the pool, get the secrets that they name, as an environment variable
        or a file. Of several with one name, the pool&apos;s counts, then the one of the nearest place. Values are encrypted, never shown, and
        masked in logs.
      </Box>
      {setting ? <SetSecret of={setting} close={() => setSetting(undefined)} /> : null}
      {secrets.error ? <Trouble error={secrets.error} /> : null}
      {secrets.data ? (
        <List
          rows={shown}
          id={(one) => `${ownerName(one)} ${one.name}`}
          empty={all.length === 0 ? "No secrets yet. Set a secret for the jobs of a team or project." : "No secrets match. Shorten or clear the search."}
          columns={[
            { head: "name", cell: ({ name }) => <b>{name}</b> },
            { head: "of", cell: ownerName },
            { head: "version", cell: ({ version }) => version, right: true },
            { head: "received in", cell: ({ pools }) => (pools?.length ? pools.join(", ") : "any pool") },
            {
              head: "kept",
              cell: ({ reference }) => (reference == null ? "here, encrypted" : <span title={reference}>outside store</span>),
              isMinor: true,
            },
            {
              head: "set",
              cell: ({ set_at, set_by }) => (
                <>
                  <Ago at={set_at} /> by {set_by}
                </>
              ),
              isMinor: true,
            },
            { head: "last read", cell: ({ used_at }) => (used_at ? <Ago at={used_at} /> : "never") },
            {
              head: "",
              cell: (one) =>
                may("admin", one.place) ? (
                  <Flex gap="6px" justify="flex-end">
                    <Button aria-label={`Replace ${one.name} of ${ownerName(one)}`} onClick={() => setSetting(one)}>
                      Replace
                    </Button>
                    <Ask
                      word="Remove"
                      label={`Remove ${one.name} of ${ownerName(one)}`}
                      action="Remove secret"
                      act={() => post("/secrets/remove", { ...ownerOf(one), name: one.name })}
                      stale={["secrets"]}
                    >
                      Jobs that name it and have not started yet end with an error.
                    </Ask>
                  </Flex>
                ) : null,
              right: true,
            },
          ]}
        />
      ) : secrets.error ? null : (
        <Awaiting what="the secrets" />
      )}
    </>
  );
}

function SetSecret({ of, close }: { of: Partial<Secret>; close: () => void }) {
  const queries = useQueryClient();
  const owners = useOwners("admin");
  const isNew = of.name === undefined;
  const owner = ownerValue(of) ?? owners[0]?.value ?? "";
  const form = useForm({
    initial: { owner, name: of.name ?? "", value: "", pools: (of.pools ?? []).join(", ") },
    check: ({ name, value }) => ({
      name: /^[A-Za-z_]\w*$/.test(name ?? "") ? undefined : "Enter letters, digits and _, not beginning with a digit.",
      value: value === "" ? "Enter the value." : undefined,
    }),
    send: ({ owner, name, value, pools }) => post<Secret>("/secrets", { ...chosenOwner(owner), name, value, pools: listed(pools ?? "") }),
    done: async () => {
      close();
      await queries.invalidateQueries({ queryKey: ["secrets"] });
    },
  });
  const title = isNew ? "Set a secret" : `Replace ${of.name} of ${ownerName({ place: of.place ?? "", pool: of.pool })}`;
  return (
    <FormDialog title={title} form={form} submit="Set secret" close={close}>
      {isNew ? (
        <>
          <SelectField name="owner" label="Place or pool" options={owners} />
          <TextField name="name" label="Name" isRequired isCode autoFocus placeholder="UPLOAD_KEY" />
        </>
      ) : null}
      <LinesField name="value" label="Value" rows={4} hint="It is not shown again. Jobs that start from now on get it." />
      <TextField name="pools" label="Pools that may receive it" isCode placeholder="any pool" hint="Names, separated by commas. Jobs that name the secret then wait for these pools." />
    </FormDialog>
  );
}
