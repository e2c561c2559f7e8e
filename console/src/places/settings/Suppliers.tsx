// Suppliers: what makes machines, how each stands, and for which pools; added, changed, removed.
import { Box, Button, Flex } from "@chakra-ui/react";
import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { post, remove, send } from "../../api/client";
import type { Schemas, Supplier } from "../../api/client";
import { useSuppliers } from "../../api/hooks";
import { useMay } from "../../api/may";
import { Ask } from "../../parts/act";
import { number } from "../../parts/count";
import { FormDialog } from "../../parts/form/Form";
import { LinesField, Row, SelectField, TextField } from "../../parts/form/fields";
import { useForm } from "../../parts/form/state";
import type { Errors, Values } from "../../parts/form/state";
import { TIME_ERROR, readCount, readPairs, readTime, writeTime } from "../../parts/form/values";
import { KeptInFile } from "../../parts/kept";
import { Heading, List } from "../../parts/list";
import { Until } from "../../parts/time";
import { Awaiting, Trouble } from "../../parts/trouble";

const KINDS = [
  { value: "local", label: "local: runner processes on the service's host" },
  { value: "engine", label: "engine: containers of a container engine" },
  { value: "command", label: "command: a program of your own" },
  { value: "standin-cloud", label: "standin-cloud: the simulated cloud" },
];

const addressOf = (supplier: Supplier) => `/suppliers/${encodeURIComponent(supplier.name)}`;

export function Suppliers() {
  const suppliers = useSuppliers();
  const may = useMay();
  const [adding, setAdding] = useState(false);
  const [changing, setChanging] = useState<Supplier>();
  const all = suppliers.data?.items ?? [];
  const manages = may("admin", "");
  return (
    <>
      <Heading beside={manages ? <Button onClick={() => setAdding(true)}>Add supplier</Button> : null}>Suppliers</Heading>
      <Box color="quiet" maxW="60em" mb="8px">
        A supplier makes and removes machines for pools. Suppliers belong to the installation and are visible with a role for all teams.
      </Box>
      {adding ? <SupplierForm close={() => setAdding(false)} /> : null}
      {changing ? <SupplierForm supplier={changing} close={() => setChanging(undefined)} /> : null}
      {suppliers.error ? <Trouble error={suppliers.error} /> : null}
      {suppliers.data ? (
        <List
          rows={all}
          id={(supplier) => supplier.name}
          empty={may("viewer", "") ? "No suppliers yet. Add a supplier to have machines ordered as demand changes." : "Suppliers are not visible with your role."}
          columns={[
            {
              head: "supplier",
              cell: (supplier) => (
                <Flex align="baseline" gap="10px">
                  <b>{supplier.name}</b>
                  <KeptInFile kind="supplier" name={supplier.name} isBrief />
                </Flex>
              ),
            },
            { head: "kind", cell: (supplier) => supplier.kind },
            { head: "state", cell: (supplier) => <State supplier={supplier} />, wrap: true },
            {
              head: "machines",
              cell: ({ machines, quota }) => (quota == null ? number(machines) : `${number(machines)} of ${number(quota)}`),
              right: true,
            },
            {
              head: "pools",
              cell: ({ pools }) => (
                <Flex gap="8px" wrap="wrap">
                  {pools.map((pool) => (
                    <Link key={pool} to={`/pools/${encodeURIComponent(pool)}`}>
                      {pool}
                    </Link>
                  ))}
                </Flex>
              ),
            },
            {
              head: "",
              cell: (supplier) =>
                manages ? (
                  <Flex gap="6px" justify="flex-end">
                    <Button aria-label={`Change the supplier ${supplier.name}`} onClick={() => setChanging(supplier)}>
                      Change
                    </Button>
                    <Ask
                      word="Remove"
                      label={`Remove the supplier ${supplier.name}`}
                      action="Remove supplier"
                      act={() => remove(addressOf(supplier))}
                      stale={["suppliers"]}
                    >
                      Only a supplier without pools and machines is removed. Its secrets are deleted.
                    </Ask>
                  </Flex>
                ) : null,
              right: true,
            },
          ]}
        />
      ) : suppliers.error ? null : (
        <Awaiting what="the suppliers" />
      )}
      <Box color="quiet" mt="10px">
        <code>pennine supplier check NAME</code> orders a trial machine, waits until it joins, and removes it.
      </Box>
    </>
  );
}

function State({ supplier: { failure } }: { supplier: Supplier }) {
  if (!failure) return <Box color="moss">working</Box>;
  return (
    <Box color="rust">
      failing: {failure.message} (retried <Until at={failure.retry_at} />)
    </Box>
  );
}

const lines = (pairs: Record<string, string>) =>
  Object.entries(pairs)
    .map(([name, value]) => `${name}=${value}`)
    .join("\n");

const wrongOf = (text: string) => {
  const read = readPairs(text);
  return "wrong" in read ? read.wrong : undefined;
};

const pairsOf = (text: string) => {
  const read = readPairs(text);
  return "pairs" in read ? read.pairs : {};
};

const check = (values: Values): Errors => ({
  name: /^[\w-]+$/.test(values.name ?? "") ? undefined : "Enter a name of letters, digits, - and _.",
  settings: wrongOf(values.settings ?? ""),
  secrets: wrongOf(values.secrets ?? ""),
  quota: values.quota?.trim() && readCount(values.quota) === undefined ? "Enter a whole number of machines, or nothing." : undefined,
  boot_limit: values.boot_limit?.trim() && readTime(values.boot_limit) === undefined ? TIME_ERROR : undefined,
});

/** What was changed, as the service takes it: a setting that was removed is null. */
function changeOf(values: Values, before: Values): Schemas["SupplierChange"] {
  const change: Record<string, unknown> = {};
  const [now, then] = [pairsOf(values.settings ?? ""), pairsOf(before.settings ?? "")];
  if (values.settings !== before.settings) {
    const gone = Object.keys(then).filter((name) => !(name in now));
    change["settings"] = { ...now, ...Object.fromEntries(gone.map((name) => [name, null])) };
  }
  if (values.secrets?.trim()) change["secrets"] = pairsOf(values.secrets);
  if (values.quota !== before.quota) change["quota"] = values.quota?.trim() ? Number(values.quota) : null;
  if (values.boot_limit !== before.boot_limit) {
    change["boot_limit_us"] = values.boot_limit?.trim() ? readTime(values.boot_limit) : null;
  }
  return change as Schemas["SupplierChange"];
}

/** Adds a supplier, or changes the given one. */
function SupplierForm({ supplier, close }: { supplier?: Supplier; close: () => void }) {
  const queries = useQueryClient();
  const initial = {
    name: supplier?.name ?? "",
    kind: supplier?.kind ?? "local",
    settings: lines(supplier?.settings ?? {}),
    secrets: "",
    quota: supplier?.quota == null ? "" : String(supplier.quota),
    boot_limit: supplier?.boot_limit_us == null ? "" : writeTime(supplier.boot_limit_us),
  };
  const form = useForm({
    initial,
    check,
    send: async (values) => {
      try {
        if (supplier) return await send<Supplier>("PATCH", addressOf(supplier), changeOf(values, initial), supplier.settings_version);
        return await post<Supplier>("/suppliers", {
          name: values.name,
          kind: values.kind,
          settings: pairsOf(values.settings ?? ""),
          secrets: pairsOf(values.secrets ?? ""),
          ...(values.quota?.trim() ? { quota: Number(values.quota) } : {}),
          ...(values.boot_limit?.trim() ? { boot_limit_us: readTime(values.boot_limit) } : {}),
        });
      } finally {
        void queries.invalidateQueries({ queryKey: ["suppliers"] });
      }
    },
    done: close,
  });
  const kept = supplier?.secrets.length ? ` Stored: ${supplier.secrets.join(", ")}.` : "";
  return (
    <FormDialog
      title={supplier ? `Change the supplier ${supplier.name}` : "Add a supplier"}
      form={form}
      submit={supplier ? "Change supplier" : "Add supplier"}
      close={close}
    >
      {supplier ? null : (
        <>
          <TextField name="name" label="Name" isRequired autoFocus placeholder="chandler" hint="Letters, digits, - and _." />
          <SelectField name="kind" label="Kind" options={KINDS} />
        </>
      )}
      <LinesField name="settings" label="Settings" placeholder="url=https://cloud.example" hint="NAME=VALUE, one on each line; docs/suppliers.md lists those of each kind." />
      <LinesField name="secrets" label="Secrets" rows={2} placeholder="token=…" hint={`NAME=VALUE, one on each line. They are encrypted and never shown.${kept}`} />
      <Row>
        <TextField name="quota" label="Quota" width="10em" inputMode="numeric" unit="machines" hint="The most at once. Empty: none." />
        <TextField name="boot_limit" label="Machines must join within" width="13em" hint="Such as 10m. Empty: what the supplier says." />
      </Row>
    </FormDialog>
  );
}
