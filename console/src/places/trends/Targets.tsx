// Targets: what is promised of waits, how much of each error budget is left, and when it is used up.
import { Box, Button, Flex } from "@chakra-ui/react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { post, remove } from "../../api/client";
import type { Target } from "../../api/client";
import { usePools, useProjects, useTargets, useTeams } from "../../api/hooks";
import { useMay } from "../../api/may";
import { number } from "../../parts/count";
import { Confirm, FormDialog } from "../../parts/form/Form";
import { Row, SelectField, TextField } from "../../parts/form/fields";
import { useForm } from "../../parts/form/state";
import type { Errors, Values } from "../../parts/form/state";
import { TIME_ERROR, readCount, readTime } from "../../parts/form/values";
import { Heading, List } from "../../parts/list";
import { Glyph } from "../../parts/mark";
import { micros } from "../../parts/time";
import { Awaiting, Trouble } from "../../parts/trouble";
import { css } from "./reasons";

const LOOK = {
  "too-few": { sign: "flag", tone: "gritstone" },
  met: { sign: "cairn", tone: "moss" },
  "at-risk": { sign: "summit", tone: "rust" },
  missed: { sign: "cross", tone: "rust" },
} as const;

const whose = (target: Target) => (target.pool ? `pool ${target.pool}` : (target.place ?? "all jobs"));

/** The share of the error budget used: late waits over allowed late waits. */
function Budget({ target }: { target: Target }) {
  const { window, allowed, left } = target.standing;
  const used = allowed > 0 ? Math.min(1, window.late / allowed) : window.late > 0 ? 1 : 0;
  const said = `${number(window.late)} late, ${number(allowed)} allowed`;
  return (
    <Flex align="center" gap="10px" title={said}>
      <Box w="120px" h="10px" bg="hollow" border="1px solid" borderColor="rule" flex="none" role="img" aria-label={said}>
        <div style={{ width: `${used * 100}%`, height: "100%", background: css(left < 0 ? "rust" : "bracken") }} />
      </Box>
      <span>{said}</span>
    </Flex>
  );
}

export function Targets() {
  const targets = useTargets();
  const [adding, setAdding] = useState(false);
  const manages = useMay()("operator");
  const all = targets.data?.items ?? [];
  return (
    <>
      <Heading
        beside={
          manages ? <Button onClick={() => setAdding(true)}>Add target</Button> : null
        }
      >
        Targets
      </Heading>
      {targets.error ? <Trouble error={targets.error} /> : null}
      {adding ? <AddTarget close={() => setAdding(false)} /> : null}
      {targets.data ? (
        <List
          rows={all}
          id={(target) => target.name}
          empty="No targets yet. Add a target to be alerted before waits grow too long."
          columns={[
            { head: "target", cell: (target) => <b>{target.name}</b> },
            { head: "scope", cell: whose },
            { head: "objective", wrap: true, cell: (target) => target.message },
            {
              head: "state",
              cell: ({ standing }) => (
                <Flex gap="6px" align="center" color={LOOK[standing.state].tone} title={standing.message}>
                  <Glyph sign={LOOK[standing.state].sign} />
                  {standing.state}
                </Flex>
              ),
            },
            {
              head: "in time",
              cell: ({ standing: { window } }) =>
                window.kept + window.late > 0 ? `${((window.kept * 100) / (window.kept + window.late)).toFixed(1)} %` : "",
              right: true,
            },
            { head: "error budget", cell: (target) => <Budget target={target} /> },
            {
              head: "burn rate",
              cell: ({ standing }) => (standing.burn == null ? "" : (standing.burn / 1000).toFixed(1)),
              right: true,
            },
            {
              head: "budget lasts",
              cell: ({ standing }) => (standing.missed_in_us == null ? "" : micros(standing.missed_in_us)),
              right: true,
            },
            { head: "", cell: (target) => (manages ? <Remove target={target} /> : null), right: true },
          ]}
        />
      ) : targets.error ? null : (
        <Awaiting what="the targets" />
      )}
    </>
  );
}

function Remove({ target }: { target: Target }) {
  const queries = useQueryClient();
  const [asking, setAsking] = useState(false);
  const gone = useMutation({
    mutationFn: () => remove(`/targets/${encodeURIComponent(target.name)}`),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["targets"] }),
  });
  return (
    <>
      <Button variant="ghost" onClick={() => setAsking(true)} aria-label={`Remove the target ${target.name}`}>
        Remove …
      </Button>
      {asking ? (
        <Confirm
          title={`Remove the target ${target.name}`}
          action="Remove target"
          isPending={gone.isPending}
          error={gone.error}
          confirm={() => gone.mutate()}
          close={() => setAsking(false)}
        >
          Its error budget is no longer tracked, and no alert is raised for it. The waits themselves stay on record.
        </Confirm>
      ) : null}
    </>
  );
}

const check = (values: Values): Errors => {
  const share = Number(values.share);
  const days = readCount(values.days ?? "");
  return {
    name: /^[\w-]+$/.test(values.name ?? "") ? undefined : "Enter a name of letters, digits, - and _.",
    share: share >= 50 && share <= 99.9 ? undefined : "Enter a percentage, 50 to 99.9.",
    within: readTime(values.within ?? "") === undefined ? TIME_ERROR : undefined,
    days: days && days <= 90 ? undefined : "Enter a whole number of days, 1 to 90.",
  };
};

function AddTarget({ close }: { close: () => void }) {
  const pools = usePools().data?.items ?? [];
  const places = [...(useTeams().data?.items ?? []), ...(useProjects().data?.items ?? [])];
  const queries = useQueryClient();
  const form = useForm({
    initial: { name: "", scope: "", share: "95", within: "2m", days: "7" },
    check,
    send: (values) => {
      const [kind, name] = (values.scope ?? "").split(/:(.*)/s);
      return post<Target>("/targets", {
        name: values.name,
        ...(kind ? { [kind]: name } : {}),
        share: Math.round(Number(values.share) * 10),
        within_us: readTime(values.within ?? ""),
        days: Number(values.days),
      });
    },
    done: async () => {
      close();
      await queries.invalidateQueries({ queryKey: ["targets"] });
    },
  });
  const scopes = [
    { value: "", label: "all jobs" },
    ...pools.map(({ name }) => ({ value: `pool:${name}`, label: `pool ${name}` })),
    ...places.map(({ path }) => ({ value: `place:${path}`, label: path })),
  ];
  return (
    <FormDialog title="Add a target" form={form} submit="Add target" close={close}>
      <TextField name="name" label="Name" isRequired autoFocus placeholder="shore-prompt" hint="Letters, digits, - and _." />
      <SelectField name="scope" label="Scope" options={scopes} hint="The jobs whose waits count." />
      <Row>
        <TextField name="share" label="Share of jobs" width="9em" inputMode="decimal" unit="%" />
        <TextField name="within" label="Wait at most" width="9em" placeholder="2m" hint="Such as 90s or 1h." />
        <TextField name="days" label="Over the last" width="10em" inputMode="numeric" unit="days" />
      </Row>
    </FormDialog>
  );
}
