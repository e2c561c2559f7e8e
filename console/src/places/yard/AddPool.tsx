import { Box, Button, Flex, Input } from "@chakra-ui/react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { post } from "../../api/client";
import type { Pool } from "../../api/client";
import { Trouble } from "../../parts/trouble";

export function AddPool({ close }: { close: () => void }) {
  const [name, setName] = useState("");
  const [description, setDescription] = useState("");
  const [labels, setLabels] = useState("");
  const [open, setOpen] = useState(true);
  const queries = useQueryClient();
  const add = useMutation({
    mutationFn: () =>
      post<Pool>("/pools", { name, description, open, labels: labels.split(/[\s,]+/).filter(Boolean) }),
    onSuccess: async () => {
      await queries.invalidateQueries({ queryKey: ["pools"] });
      close();
    },
  });
  const field = { size: "sm", bg: "sheet", borderColor: "rule" } as const;
  return (
    <Box asChild bg="sheet" border="1px solid" borderColor="rule" borderRadius="4px" p="14px 18px" my="14px" maxW="56em">
      <form
        onSubmit={(event) => {
          event.preventDefault();
          add.mutate();
        }}
      >
        <Flex gap="14px" align="flex-end" wrap="wrap">
          <label>
            Name
            <Input {...field} name="name" value={name} onChange={(event) => setName(event.target.value)} autoFocus />
          </label>
          <label>
            Description
            <Input {...field} w="20em" value={description} onChange={(event) => setDescription(event.target.value)} />
          </label>
          <label>
            Labels
            <Input {...field} placeholder="bench, shared" value={labels} onChange={(event) => setLabels(event.target.value)} />
          </label>
          <label>
            <input type="checkbox" checked={open} onChange={(event) => setOpen(event.target.checked)} /> takes jobs that
            ask for nothing
          </label>
          <Button type="submit" size="sm" bg="heather" color="ground" loading={add.isPending} disabled={name === ""}>
            Add pool
          </Button>
          <Button size="sm" variant="ghost" color="quiet" onClick={close}>
            Close
          </Button>
        </Flex>
        {add.error ? <Trouble error={add.error} /> : null}
      </form>
    </Box>
  );
}
