// What people set of a runner over what its machine says: shown with who and when, changed, taken back.
import { Box, Button, Flex, Input } from "@chakra-ui/react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { send } from "../../api/client";
import type { ChangedRunner, Runner, Schemas } from "../../api/client";
import { List } from "../../parts/list";
import { Ago } from "../../parts/time";
import { Trouble } from "../../parts/trouble";

type Change = Schemas["RunnerChange"];
type Line = { what: string; to: string; by: string; at: string; back: Change };

/** What people set, a line each, with what takes it back. */
function setByPeople(set: Runner["set"]): Line[] {
  const lines: Line[] = [];
  const add = (what: string, to: string, by: { by: string; at: string }, back: Change) =>
    lines.push({ what, to, by: by.by, at: by.at, back });
  if (set?.slots) add("slots", String(set.slots.value), set.slots, { slots: null });
  if (set?.paths) add("paths", set.paths.value.join(":"), set.paths, { paths: null });
  for (const [name, one] of Object.entries(set?.labels ?? {}))
    add(`label ${name}`, one.value ? "has it" : "has it not", one, { labels: { [name]: null } } as unknown as Change);
  for (const [name, one] of Object.entries(set?.facts ?? {}))
    add(`fact ${name}`, String(one.value), one, { facts: { [name]: null } } as unknown as Change);
  for (const [name, one] of Object.entries(set?.variables ?? {}))
    add(`variable ${name}`, one.value, one, { variables: { [name]: null } } as unknown as Change);
  return lines;
}

const KINDS = ["description", "slots", "label", "no label", "fact", "variable", "name"] as const;
type Kind = (typeof KINDS)[number];

/** Parses the form into a change, or returns the error. */
function change(kind: Kind, text: string): Change | string {
  const pair = /^([^=]+)=(.*)$/s.exec(text);
  switch (kind) {
    case "description":
      return { description: text };
    case "name":
      return { name: text };
    case "slots": {
      const slots = Number(text);
      return Number.isInteger(slots) && slots > 0 ? { slots } : "Enter a whole number of slots.";
    }
    case "label":
    case "no label":
      return { labels: { [text]: kind === "label" } };
    case "fact":
      return pair?.[1] ? { facts: { [pair[1]]: pair[2] ?? "" } } : "Enter the fact as NAME=VALUE.";
    case "variable":
      return pair?.[1] ? { variables: { [pair[1]]: pair[2] ?? "" } } : "Enter the variable as NAME=VALUE.";
  }
}

const HINT: Record<Kind, string> = {
  description: "what it is for",
  slots: "slots",
  label: "add label",
  "no label": "add label not",
  fact: "wave-maker=4.1",
  variable: "TANK_PORT=/dev/ttyUSB0",
  name: "what it is called",
};

export function Settings({ runner }: { runner: Runner }) {
  const queries = useQueryClient();
  const [kind, setKind] = useState<Kind>("description");
  const [text, setText] = useState("");
  const [wrong, setWrong] = useState<string | null>(null);
  const save = useMutation({
    mutationFn: (body: Change) =>
      send<ChangedRunner>("PATCH", `/runners/${runner.id}`, body, runner.settings_version),
    onSuccess: () => setText(""),
    // Where it has changed meanwhile, what it is now is shown beside the refusal; what was typed stays.
    onSettled: () => queries.invalidateQueries({ queryKey: ["runners"] }),
  });
  const lines = setByPeople(runner.set);
  return (
    <>
      <List
        rows={lines}
        id={(one) => one.what}
        empty="None. Labels and facts are those the machine reports."
        columns={[
          { head: "what", cell: (one) => one.what },
          { head: "to", cell: (one) => one.to },
          { head: "by", cell: (one) => one.by },
          { head: "when", cell: (one) => <Ago at={one.at} /> },
          {
            head: "",
            cell: (one) => (
              <Button size="xs" variant="outline" borderColor="rule" color="ink" onClick={() => save.mutate(one.back)}>
                Reset
              </Button>
            ),
            right: true,
          },
        ]}
      />
      <Box asChild mt="8px">
        <form
          onSubmit={(event) => {
            event.preventDefault();
            const wanted = change(kind, text.trim());
            setWrong(typeof wanted === "string" ? wanted : null);
            if (typeof wanted !== "string") save.mutate(wanted);
          }}
        >
          <Flex gap="8px" align="center">
            <span>Set</span>
            <Box asChild bg="sheet" border="1px solid" borderColor="rule" borderRadius="4px" h="32px" px="6px">
              <select aria-label="Setting" value={kind} onChange={(event) => setKind(event.target.value as Kind)}>
                {KINDS.map((one) => (
                  <option key={one}>{one}</option>
                ))}
              </select>
            </Box>
            <Input
              size="sm"
              w="20em"
              bg="sheet"
              borderColor="rule"
              aria-label="To what"
              placeholder={HINT[kind]}
              value={text}
              onChange={(event) => setText(event.target.value)}
            />
            <Button type="submit" size="sm" variant="outline" borderColor="rule" color="ink" loading={save.isPending} disabled={text.trim() === ""}>
              Set override
            </Button>
          </Flex>
        </form>
      </Box>
      {wrong ? <Trouble error={new Error(wrong)} /> : null}
      {save.error ? <Trouble error={save.error} /> : null}
    </>
  );
}
