// What people set of a runner over what its machine reports: shown with who and when, changed, reset.
import { Button, Flex } from "@chakra-ui/react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { send } from "../../api/client";
import type { ChangedRunner, Runner, Schemas } from "../../api/client";
import { FormDialog } from "../../parts/form/Form";
import { SelectField, TextField } from "../../parts/form/fields";
import { useForm } from "../../parts/form/state";
import { readCount } from "../../parts/form/values";
import { List } from "../../parts/list";
import { Ago } from "../../parts/time";
import { Trouble } from "../../parts/trouble";

type Change = Schemas["RunnerChange"];
type Line = { what: string; to: string; by: string; at: string; back: Change };

/** What people set, a line each, with what resets it. */
function overrides(set: Runner["set"]): Line[] {
  const lines: Line[] = [];
  const add = (what: string, to: string, by: { by: string; at: string }, back: Change) =>
    lines.push({ what, to, by: by.by, at: by.at, back });
  if (set?.slots) add("slots", String(set.slots.value), set.slots, { slots: null });
  if (set?.paths) add("paths", set.paths.value.join(":"), set.paths, { paths: null });
  for (const [name, one] of Object.entries(set?.labels ?? {}))
    add(`label ${name}`, one.value ? "present" : "absent", one, { labels: { [name]: null } } as unknown as Change);
  for (const [name, one] of Object.entries(set?.facts ?? {}))
    add(`fact ${name}`, String(one.value), one, { facts: { [name]: null } } as unknown as Change);
  for (const [name, one] of Object.entries(set?.variables ?? {}))
    add(`variable ${name}`, one.value, one, { variables: { [name]: null } } as unknown as Change);
  return lines;
}

type Kind = "description" | "slots" | "label" | "no label" | "fact" | "variable" | "name";

/** What can be set: its name in the list, the field's label, an example, and a hint. */
const KINDS: Record<Kind, { word: string; label: string; example: string; hint: string }> = {
  description: { word: "Description", label: "Description", example: "in the lab, by the window", hint: "For people." },
  slots: { word: "Slots", label: "Slots", example: "4", hint: "How many jobs it runs at once." },
  label: { word: "Add label", label: "Label", example: "bench", hint: "A bare word that requirements can name." },
  "no label": { word: "Remove label", label: "Label", example: "shared", hint: "The runner is treated as if it did not have it." },
  fact: { word: "Fact", label: "Fact", example: "wave-maker=4.1", hint: "NAME=VALUE, as requirements compare it." },
  variable: { word: "Variable", label: "Variable", example: "TANK_PORT=/dev/ttyUSB0", hint: "NAME=VALUE, in the environment of its jobs." },
  name: { word: "Name", label: "Name", example: "fell-04", hint: "What it is called from now on." },
};

/** Reads what was typed as a change; or says what is wrong with it. */
function read(kind: Kind, text: string): { change: Change } | { wrong: string } {
  const [, name = "", value = ""] = /^([^=]+)=(.*)$/s.exec(text) ?? [];
  const slots = readCount(text);
  if (text === "" && kind !== "description") return { wrong: "Enter a value." };
  switch (kind) {
    case "description":
      return { change: { description: text } };
    case "name":
      return { change: { name: text } };
    case "slots":
      return slots ? { change: { slots } } : { wrong: "Enter a whole number of slots, 1 or more." };
    case "label":
    case "no label":
      return { change: { labels: { [text]: kind === "label" } } as unknown as Change };
    case "fact":
      return name ? { change: { facts: { [name]: value } } as unknown as Change } : { wrong: "Enter the fact as NAME=VALUE." };
    case "variable":
      return name ? { change: { variables: { [name]: value } } as unknown as Change } : { wrong: "Enter the variable as NAME=VALUE." };
  }
}

export function Overrides({ runner }: { runner: Runner }) {
  const queries = useQueryClient();
  const [setting, setSetting] = useState(false);
  const reset = useMutation({
    mutationFn: (body: Change) => send<ChangedRunner>("PATCH", `/runners/${runner.id}`, body, runner.settings_version),
    onSettled: () => queries.invalidateQueries({ queryKey: ["runners"] }),
  });
  return (
    <>
      <List
        rows={overrides(runner.set)}
        id={(one) => one.what}
        empty="None. Labels and facts are those the machine reports."
        columns={[
          { head: "setting", cell: (one) => one.what },
          { head: "value", cell: (one) => one.to },
          { head: "set by", cell: (one) => one.by },
          { head: "when", cell: (one) => <Ago at={one.at} /> },
          {
            head: "",
            cell: (one) => (
              <Button aria-label={`Reset ${one.what}`} onClick={() => reset.mutate(one.back)}>
                Reset
              </Button>
            ),
            right: true,
          },
        ]}
      />
      {reset.error ? <Trouble error={reset.error} /> : null}
      <Flex mt="8px">
        <Button onClick={() => setSetting(true)}>Set override</Button>
      </Flex>
      {setting ? <SetOverride runner={runner} close={() => setSetting(false)} /> : null}
    </>
  );
}

export function SetOverride({ runner, close }: { runner: Runner; close: () => void }) {
  const queries = useQueryClient();
  const form = useForm({
    initial: { kind: "description", value: "" },
    check: ({ kind, value }) => {
      const found = read(kind as Kind, value?.trim() ?? "");
      return { value: "wrong" in found ? found.wrong : undefined };
    },
    send: async ({ kind, value }) => {
      const found = read(kind as Kind, value?.trim() ?? "");
      if ("wrong" in found) throw new Error(found.wrong);
      try {
        return await send<ChangedRunner>("PATCH", `/runners/${runner.id}`, found.change, runner.settings_version);
      } finally {
        // Where it has changed meanwhile, what it is now is shown beside the refusal; what was typed stays.
        void queries.invalidateQueries({ queryKey: ["runners"] });
      }
    },
    done: close,
  });
  const kind = KINDS[form.values.kind as Kind];
  return (
    <FormDialog title={`Set an override of ${runner.name}`} form={form} submit="Set override" close={close}>
      <SelectField
        name="kind"
        label="Setting"
        options={Object.entries(KINDS).map(([value, { word }]) => ({ value, label: word }))}
        hint="An override takes precedence over what the machine reports, until it is reset."
      />
      <TextField name="value" label={kind.label} placeholder={kind.example} hint={kind.hint} />
    </FormDialog>
  );
}
