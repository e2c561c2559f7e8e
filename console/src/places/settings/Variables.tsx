// Environment variables of the jobs of a place or of a pool, in the open: set and removed by its operators.
import { Box, Button, Flex } from "@chakra-ui/react";
import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { post } from "../../api/client";
import type { Schemas } from "../../api/client";
import { useVariables } from "../../api/hooks";
import { useMay } from "../../api/may";
import { Ask } from "../../parts/act";
import { FormDialog } from "../../parts/form/Form";
import { SelectField, TextField } from "../../parts/form/fields";
import { useForm } from "../../parts/form/state";
import { Heading, List } from "../../parts/list";
import { SearchBox, contains, useSearch } from "../../parts/search";
import { Ago } from "../../parts/time";
import { Awaiting, Trouble } from "../../parts/trouble";
import { chosenOwner, ownerName, ownerOf, ownerValue, useOwners } from "./owner";

type Variable = Schemas["Variable"];

export function Variables() {
  const variables = useVariables();
  const may = useMay();
  const search = useSearch();
  const [setting, setSetting] = useState<Partial<Variable>>();
  const all = variables.data?.items ?? [];
  const shown = all.filter((one) => contains(search, one.name, one.value, ownerName(one)));
  return (
    <>
      <Heading
        beside={
          <>
            {may("operator") ? <Button onClick={() => setSetting({})}>Set variable</Button> : null}
            <SearchBox label="Search variables" placeholder="Name, value, place or pool" />
          </>
        }
      >
        Variables
      </Heading>
      <Box color="quiet" maxW="60em" mb="8px">
        Jobs of the place and of the places below it, or the jobs that run in the pool, get a variable in their environment. Of several with one
        name, the job&apos;s own counts, then the runner&apos;s, the pool&apos;s, and that of the nearest place. Everybody who sees the place reads
        the value.
      </Box>
      {setting ? <SetVariable of={setting} close={() => setSetting(undefined)} /> : null}
      {variables.error ? <Trouble error={variables.error} /> : null}
      {variables.data ? (
        <List
          rows={shown}
          id={(one) => `${ownerName(one)} ${one.name}`}
          empty={all.length === 0 ? "No variables yet. Set a variable for the jobs of a team or project." : "No variables match. Shorten or clear the search."}
          columns={[
            { head: "name", cell: ({ name }) => <b>{name}</b> },
            { head: "value", cell: ({ value }) => <code title={value}>{value}</code> },
            { head: "of", cell: ownerName },
            {
              head: "set",
              cell: ({ set_at, set_by }) => (
                <>
                  <Ago at={set_at} /> by {set_by}
                </>
              ),
              isMinor: true,
            },
            {
              head: "",
              cell: (one) =>
                may("operator", one.place) ? (
                  <Flex gap="6px" justify="flex-end">
                    <Button aria-label={`Change ${one.name} of ${ownerName(one)}`} onClick={() => setSetting(one)}>
                      Change
                    </Button>
                    <Ask
                      word="Remove"
                      label={`Remove ${one.name} of ${ownerName(one)}`}
                      action="Remove variable"
                      act={() => post("/variables/remove", { ...ownerOf(one), name: one.name })}
                      stale={["variables"]}
                    >
                      Jobs that are assigned from now on do not get it.
                    </Ask>
                  </Flex>
                ) : null,
              right: true,
            },
          ]}
        />
      ) : variables.error ? null : (
        <Awaiting what="the variables" />
      )}
    </>
  );
}

function SetVariable({ of, close }: { of: Partial<Variable>; close: () => void }) {
  const queries = useQueryClient();
  const owners = useOwners("operator");
  const isNew = of.name === undefined;
  const owner = ownerValue(of) ?? owners[0]?.value ?? "";
  const form = useForm({
    initial: { owner, name: of.name ?? "", value: of.value ?? "" },
    check: ({ name }) => ({ name: /^[A-Za-z_]\w*$/.test(name ?? "") ? undefined : "Enter letters, digits and _, not beginning with a digit." }),
    send: ({ owner, name, value }) => post<Variable>("/variables", { ...chosenOwner(owner), name, value }),
    done: async () => {
      close();
      await queries.invalidateQueries({ queryKey: ["variables"] });
    },
  });
  return (
    <FormDialog title={isNew ? "Set a variable" : `Change ${of.name} of ${ownerName({ place: of.place ?? "", pool: of.pool })}`} form={form} submit="Set variable" close={close}>
      {isNew ? (
        <>
          <SelectField name="owner" label="Place or pool" options={owners} />
          <TextField name="name" label="Name" isRequired isCode autoFocus placeholder="BUILD_REGION" />
        </>
      ) : null}
      <TextField name="value" label="Value" isCode autoFocus={!isNew} hint="In the open: for keys and passwords it is the wrong place." />
    </FormDialog>
  );
}
