// The projects whose use of a pool was approved.
import { Box, Button, Flex } from "@chakra-ui/react";
import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { post } from "../../api/client";
import type { Schemas } from "../../api/client";
import { useProjects } from "../../api/hooks";
import { useMay } from "../../api/may";
import { Ask } from "../../parts/act";
import { FormDialog } from "../../parts/form/Form";
import { SelectField } from "../../parts/form/fields";
import { useForm } from "../../parts/form/state";
import { Heading, List } from "../../parts/list";

type Pool = Schemas["Pool"];

const pathOf = (pool: Pool) => `/pools/${encodeURIComponent(pool.name)}/approvals`;

export function Approvals({ pool }: { pool: Pool }) {
  const may = useMay()("operator", pool.owner);
  const [approving, setApproving] = useState(false);
  const approved = pool.approved ?? [];
  if (!pool.asks_approval && approved.length === 0) return null;
  return (
    <>
      <Heading beside={may ? <Button onClick={() => setApproving(true)}>Approve project</Button> : null}>Approved projects</Heading>
      {pool.asks_approval ? null : <Box color="quiet">The pool does not ask for approval now.</Box>}
      <List
        rows={approved}
        id={(path) => path}
        empty="No projects are approved yet. Jobs of a project wait until an operator of the pool approves it."
        columns={[
          { head: "project", cell: (path) => <b>{path}</b> },
          {
            head: "",
            cell: (path) =>
              may ? (
                <Flex justify="flex-end">
                  <Ask
                    word="Withdraw"
                    label={`Withdraw the approval of ${path}`}
                    action="Withdraw approval"
                    act={() => post(`${pathOf(pool)}/withdraw`, { project: path })}
                    stale={["pools"]}
                  >
                    Executing jobs continue; waiting jobs need approval again.
                  </Ask>
                </Flex>
              ) : null,
            right: true,
          },
        ]}
      />
      {approving ? <Approve pool={pool} close={() => setApproving(false)} /> : null}
    </>
  );
}

function Approve({ pool, close }: { pool: Pool; close: () => void }) {
  const queries = useQueryClient();
  const projects = (useProjects().data?.items ?? []).map(({ path }) => path).filter((path) => !pool.approved?.includes(path));
  const form = useForm({
    initial: { project: "" },
    check: ({ project }) => ({ project: project === "" ? "Choose a project." : undefined }),
    send: ({ project }) => post<Pool>(pathOf(pool), { project }),
    done: async () => {
      close();
      await queries.invalidateQueries({ queryKey: ["pools"] });
    },
  });
  return (
    <FormDialog title={`Approve a project in ${pool.name}`} form={form} submit="Approve project" close={close}>
      <SelectField
        name="project"
        label="Project"
        options={[{ value: "", label: "Choose a project" }, ...projects.toSorted().map((path) => ({ value: path, label: path }))]}
        hint="All its jobs may then use the pool, until the approval is withdrawn."
      />
    </FormDialog>
  );
}
