// Adds a pool: everything that `pennine pool add` can set.
import { useQueryClient } from "@tanstack/react-query";
import { post } from "../../api/client";
import type { Pool, Schemas } from "../../api/client";
import { usePools, useProjects, useSuppliers, useTeams } from "../../api/hooks";
import { FormDialog, More } from "../../parts/form/Form";
import { CheckField, SelectField, TextField } from "../../parts/form/fields";
import { useForm } from "../../parts/form/state";
import type { Errors, Values } from "../../parts/form/state";
import { readWords } from "../../parts/form/values";
import { JobFields } from "./JobPolicy";
import { SupplyFields } from "./SupplyFields";
import { checkJobs, jobChange, jobValues } from "./jobs";
import { checkSupply, supplyChange, supplyValues } from "./supply";

const BEFORE = { ...supplyValues(), ...jobValues() };

const check = (values: Values): Errors => ({
  name: /^[\w-]+$/.test(values.name ?? "") ? undefined : "Enter a name of letters, digits, - and _.",
  ...(values.supplier ? checkSupply(values) : {}),
  ...checkJobs(values),
});

function body(values: Values): Schemas["NewPool"] {
  const jobs = jobChange(values, BEFORE);
  return {
    name: values.name ?? "",
    description: values.description,
    labels: readWords(values.labels ?? ""),
    open: values.open === "yes",
    ...(values.owner ? { owner: values.owner } : {}),
    ...(values.needs?.trim() ? { needs: values.needs } : {}),
    ...(jobs ? { jobs: jobs as Schemas["JobPolicyChange"] } : {}),
    ...(values.like ? { like: values.like } : {}),
    ...(values.supplier ? { supply: supplyChange(values, BEFORE) as Schemas["SupplyChange"] } : {}),
  };
}

export function AddPool({ close }: { close: () => void }) {
  const queries = useQueryClient();
  const suppliers = useSuppliers().data?.items ?? [];
  const pools = usePools().data?.items ?? [];
  const places = [...(useTeams().data?.items ?? []), ...(useProjects().data?.items ?? [])];
  const form = useForm({
    initial: { ...BEFORE, open: "yes" },
    check,
    send: (values) => post<Pool>("/pools", body(values)),
    done: async () => {
      await queries.invalidateQueries({ queryKey: ["pools"] });
      close();
    },
  });
  const choices = (none: string, names: string[]) => [{ value: "", label: none }, ...names.map((name) => ({ value: name, label: name }))];
  return (
    <FormDialog title="Add a pool" form={form} submit="Add pool" close={close} width="720px">
      <TextField name="name" label="Name" isRequired autoFocus hint="Letters, digits, - and _." />
      <TextField name="description" label="Description" hint="What its machines are, for people." />
      <TextField name="labels" label="Labels" placeholder="bench shared" hint="Every runner of the pool has them. Separated by blanks." />
      <CheckField name="open" label="Accept jobs without a requirement" />
      <SelectField
        name="supplier"
        label="Supplier"
        options={choices("none: people add the machines", suppliers.map((supplier) => supplier.name))}
        hint="Orders and releases the pool's machines as demand changes."
      />
      {form.values.supplier ? <SupplyFields /> : null}
      <More label="Isolation and limits of its jobs">
        <JobFields />
      </More>
      <More label="Owner, needs of a machine, settings of another pool">
        <SelectField
          name="owner"
          label="Owner"
          options={choices("all teams", places.map((place) => place.path))}
          hint="The owner and everything below it may use the pool."
        />
        <TextField name="needs" label="Needs" isCode placeholder="mem >= 8GiB and has gcc" hint="The requirement that a machine must satisfy to join." />
        <SelectField
          name="like"
          label="Like"
          options={choices("no other pool", pools.map((pool) => pool.name))}
          hint="Where a setting is not given here, this pool's is used, its reach too."
        />
      </More>
    </FormDialog>
  );
}
