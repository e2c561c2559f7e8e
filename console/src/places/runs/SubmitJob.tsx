import { Box, Button, Flex, Input } from "@chakra-ui/react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { Problem, post } from "../../api/client";
import type { JobLine } from "../../api/client";
import { useProjects } from "../../api/hooks";
import { Trouble } from "../../parts/trouble";

export function SubmitJob({ close }: { close: () => void }) {
  const projects = useProjects();
  const [project, setProject] = useState("");
  const [where, setWhere] = useState("");
  const [script, setScript] = useState("");
  const queries = useQueryClient();
  const navigate = useNavigate();
  const chosen = project || projects.data?.items[0]?.path || "";
  const submit = useMutation({
    mutationFn: () =>
      post<JobLine>("/jobs", {
        project: chosen,
        where,
        command: ["sh", "-c", script],
        title: script.split("\n")[0]?.slice(0, 60),
      }),
    onSuccess: async (job) => {
      await queries.invalidateQueries({ queryKey: ["jobs"] });
      await navigate(`/jobs/${job.name}`);
    },
  });
  const column = submit.error instanceof Problem ? submit.error.body.column : undefined;
  const field = { size: "sm", bg: "ground", borderColor: "rule" } as const;
  if (projects.data?.items.length === 0) {
    return (
      <Box color="quiet" my="12px">
        There is no project yet. Add one with <code>pennine team add TEAM</code> and{" "}
        <code>pennine project add NAME --team TEAM</code>.
      </Box>
    );
  }
  return (
    <Box asChild bg="sheet" border="1px solid" borderColor="rule" borderRadius="4px" p="14px 18px" my="14px">
      <form
        onSubmit={(event) => {
          event.preventDefault();
          submit.mutate();
        }}
      >
        <Flex gap="14px" align="flex-end" wrap="wrap">
          <label>
            Project
            <Box asChild display="block" bg="ground" border="1px solid" borderColor="rule" borderRadius="3px" h="36px" px="8px">
              <select name="project" value={chosen} onChange={(event) => setProject(event.target.value)}>
                {projects.data?.items.map((one) => (
                  <option key={one.id} value={one.path}>
                    {one.path}
                  </option>
                ))}
              </select>
            </Box>
          </label>
          <label>
            Requirement (empty: any runner)
            <Input
              {...field}
              name="where"
              w="19em"
              fontFamily="mono"
              placeholder="linux and gcc >= 12"
              value={where}
              onChange={(event) => setWhere(event.target.value)}
            />
          </label>
          <Box asChild flex="1">
            <label>
              Shell command
              <Input
                {...field}
                name="script"
                fontFamily="mono"
                placeholder="make check"
                value={script}
                onChange={(event) => setScript(event.target.value)}
              />
            </label>
          </Box>
          <Button
            type="submit"
            size="sm"
            bg="heather"
            color="ground"
            loading={submit.isPending}
            disabled={script.trim() === "" || chosen === ""}
          >
            Submit
          </Button>
          <Button size="sm" variant="ghost" color="quiet" onClick={close}>
            Close
          </Button>
        </Flex>
        {column ? (
          <Box as="pre" fontFamily="mono" mt="10px" aria-hidden="true">
            {`${where}\n${" ".repeat(column - 1)}^`}
          </Box>
        ) : null}
        {submit.error ? <Trouble error={submit.error} /> : null}
      </form>
    </Box>
  );
}
