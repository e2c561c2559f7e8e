// How many machines a pool has: its policy, and a form that shows the resulting decisions before the policy changes.
import { Box, Button } from "@chakra-ui/react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { send } from "../../api/client";
import { useMay } from "../../api/may";
import type { ChangedPool, Pool, Schemas } from "../../api/client";
import { FormDialog } from "../../parts/form/Form";
import { useForm } from "../../parts/form/state";
import { KeptInFile } from "../../parts/kept";
import { FactList } from "../../parts/facts";
import { Heading } from "../../parts/list";
import { useMoney } from "../../parts/money";
import { micros } from "../../parts/time";
import { Trouble } from "../../parts/trouble";
import { SupplyFields } from "./SupplyFields";
import { checkSupply, supplyChange, supplyValues, writeTimes } from "./supply";

export function PoolPolicy({ pool }: { pool: Pool }) {
  const supply = pool.supply!;
  const money = useMoney();
  const may = useMay();
  const [changing, setChanging] = useState(false);
  const budget = [
    supply.budget?.day != null ? `${money(supply.budget.day)} a day` : "",
    supply.budget?.month != null ? `${money(supply.budget.month)} a month` : "",
  ].filter(Boolean);
  const facts: [string, string][] = [
    ["supplier", [supply.supplier, supply.image, supply.size].filter(Boolean).join(", ")],
    ["kind", supply.single_use ? "single-use (one job per machine)" : `standing, ${supply.slots} ${supply.slots === 1 ? "slot" : "slots"} each`],
    ["floor", `${supply.floor}`],
    ["ceiling", `${supply.ceiling}`],
    ["spare", `${supply.spare}`],
    ["dwell", micros(supply.dwell_us)],
    ["price per hour", money(pool.standing?.price ?? 0)],
    ["budget", budget.join(", ") || "none"],
    ...(supply.week?.times ?? []).map((times): [string, string] => ["weekly", `${writeTimes(times)} (${supply.week?.zone || "UTC"})`]),
  ];
  return (
    <>
      <Heading beside={may("operator", pool.owner) ? <Button onClick={() => setChanging(true)}>Change policy</Button> : null}>Policy</Heading>
      <FactList facts={facts} />
      {changing ? <ChangePolicy pool={pool} close={() => setChanging(false)} /> : null}
    </>
  );
}

function ChangePolicy({ pool, close }: { pool: Pool; close: () => void }) {
  const queries = useQueryClient();
  // What was read when the form was opened: a policy that changes meanwhile is not overwritten.
  const [{ before, version }] = useState({ before: supplyValues(pool.supply), version: pool.settings_version });
  const ask = (supply: Partial<Schemas["SupplyChange"]>, preview: boolean) =>
    send<ChangedPool>("PATCH", `/pools/${encodeURIComponent(pool.name)}`, { supply, preview, accept_losses: true }, version);
  const form = useForm({
    initial: before,
    check: checkSupply,
    send: (values) => ask(supplyChange(values, before), false),
    done: async () => {
      await queries.invalidateQueries({ queryKey: ["pools"] });
      close();
    },
  });
  const preview = useMutation({ mutationFn: () => ask(supplyChange(form.values, before), true) });
  const decisions = preview.data?.decisions ?? [];
  return (
    <FormDialog
      title={`Change the policy of ${pool.name}`}
      form={form}
      submit="Change policy"
      close={close}
      width="720px"
      beside={
        <Button size="sm" loading={preview.isPending} loadingText="Preview decisions" onClick={() => preview.mutate()}>
          Preview decisions
        </Button>
      }
    >
      <KeptInFile kind="pool" name={pool.name} />
      <SupplyFields />
      {preview.error ? <Trouble error={preview.error} /> : null}
      {preview.data ? (
        <Box role="status" data-testid="foreseen">
          {decisions.length === 0
            ? "No machines would be ordered or released now."
            : decisions.map((one) => <Box key={one.message}>Decision: {one.message}.</Box>)}
        </Box>
      ) : null}
    </FormDialog>
  );
}
