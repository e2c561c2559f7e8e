// What a pool's jobs may reach and use on their machine: shown, and changed.
import { Box, Button } from "@chakra-ui/react";
import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { send } from "../../api/client";
import { useMay } from "../../api/may";
import type { ChangedPool, Pool } from "../../api/client";
import { FormDialog } from "../../parts/form/Form";
import { CheckField, Row, SelectField, TextField } from "../../parts/form/fields";
import { useForm } from "../../parts/form/state";
import type { Values } from "../../parts/form/state";
import { KeptInFile } from "../../parts/kept";
import { FactList } from "../../parts/facts";
import { Heading } from "../../parts/list";
import { checkJobs, jobChange, jobValues, writeLimits } from "./jobs";

const LEVELS = [
  { value: "none", label: "none: all that the runner's user can reach" },
  { value: "process", label: "process: own processes, files and user" },
  { value: "sandbox", label: "sandbox: also a read-only system, no privileges" },
];

const MEANING: Record<Pool["jobs"]["isolation"], string> = {
  none: "none: jobs can do whatever the runner's user can",
  process: "process: jobs have their own processes, files and IPC, and the machine's network",
  sandbox: "sandbox: as process, with a read-only system and no privileges",
};

/** The fields, for the forms that add a pool and that change one. */
export function JobFields() {
  return (
    <>
      <SelectField name="isolation" label="Isolation" options={LEVELS} hint="How far jobs are kept from their machine." />
      <CheckField name="network" label="Jobs in a sandbox reach the network" />
      <Row>
        <TextField name="job_memory" label="Memory" width="9em" placeholder="4GiB" hint="Per job. Empty: no limit." />
        <TextField name="job_processes" label="Processes" width="9em" inputMode="numeric" hint="And threads, per job." />
        <TextField name="job_cores" label="Cores" width="9em" inputMode="numeric" hint="Per job." />
        <TextField name="job_disk" label="Disk" width="9em" placeholder="20GiB" hint="Per job." />
      </Row>
    </>
  );
}

export function JobPolicy({ pool }: { pool: Pool }) {
  const may = useMay();
  const [changing, setChanging] = useState(false);
  const { isolation, network, limits } = pool.jobs;
  const facts: [string, string][] = [
    ["isolation", MEANING[isolation]],
    ...(isolation === "sandbox" ? [["network", network ? "the machine's" : "none"] as [string, string]] : []),
    ["limits per job", writeLimits(limits) || "none"],
    ["untrusted jobs", pool.takes_untrusted ? "accepted" : "not accepted"],
    ["first use by a project", pool.asks_approval ? "has to be approved" : "needs no approval"],
  ];
  return (
    <>
      <Heading beside={may("operator", pool.owner) ? <Button onClick={() => setChanging(true)}>Change isolation and limits</Button> : null}>Jobs</Heading>
      <FactList facts={facts} />
      {changing ? <ChangeJobs pool={pool} close={() => setChanging(false)} /> : null}
    </>
  );
}

function ChangeJobs({ pool, close }: { pool: Pool; close: () => void }) {
  const queries = useQueryClient();
  // What was read when the form was opened: a policy that changes meanwhile is not overwritten.
  const [{ before, version }] = useState({
    before: { ...jobValues(pool.jobs), takes_untrusted: pool.takes_untrusted ? "yes" : "", asks_approval: pool.asks_approval ? "yes" : "" } as Values,
    version: pool.settings_version,
  });
  const form = useForm({
    initial: before,
    check: checkJobs,
    send: (values) => {
      const change = {
        jobs: jobChange(values, before),
        asks_approval: values.asks_approval === before.asks_approval ? undefined : values.asks_approval === "yes",
        takes_untrusted: values.takes_untrusted === before.takes_untrusted ? undefined : values.takes_untrusted === "yes",
      };
      return send<ChangedPool>("PATCH", `/pools/${encodeURIComponent(pool.name)}`, change, version);
    },
    done: async () => {
      await queries.invalidateQueries({ queryKey: ["pools"] });
      close();
    },
  });
  return (
    <FormDialog title={`Change isolation and limits of ${pool.name}`} form={form} submit="Change isolation and limits" close={close} width="720px">
      <KeptInFile kind="pool" name={pool.name} />
      <JobFields />
      <CheckField name="takes_untrusted" label="Accept untrusted jobs (needs single-use machines)" />
      <CheckField
        name="asks_approval"
        label="Ask for approval of a project's first use"
        hint="Approve the projects that use the pool before: jobs of the others wait until an operator approves them."
      />
      <Box color="quiet">Executing jobs keep the policy with which they started.</Box>
    </FormDialog>
  );
}
