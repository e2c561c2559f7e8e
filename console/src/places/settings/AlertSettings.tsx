// When alerts are raised, and who is sent them.
import { Box, Button, Flex } from "@chakra-ui/react";
import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { post, remove, send } from "../../api/client";
import type { Schemas } from "../../api/client";
import { useSubscribers, useThresholds } from "../../api/hooks";
import { useMay } from "../../api/may";
import { Act, Ask } from "../../parts/act";
import { number } from "../../parts/count";
import { Form, FormDialog } from "../../parts/form/Form";
import { Row, TextField } from "../../parts/form/fields";
import { useForm } from "../../parts/form/state";
import type { Errors, Values } from "../../parts/form/state";
import { TIME_ERROR, readCount, readTime, readWords, writeTime } from "../../parts/form/values";
import { Heading, List } from "../../parts/list";
import { SecretDialog } from "../../parts/secret";
import { Ago, Until } from "../../parts/time";
import { Awaiting, Trouble } from "../../parts/trouble";

type Thresholds = Schemas["AlertThresholds"];
type Subscriber = Schemas["Listener"];
type MadeSubscriber = Schemas["MadeListener"];

const TIMES = ["no_match", "ceiling", "supplier", "idle"] as const;

const addressOf = (subscriber: Subscriber) => `/listeners/${encodeURIComponent(subscriber.name)}`;

export function AlertSettings() {
  const thresholds = useThresholds();
  const may = useMay();
  const { data } = thresholds;
  return (
    <>
      <Heading>Thresholds</Heading>
      {thresholds.error ? <Trouble error={thresholds.error} /> : null}
      {data ? (
        <ThresholdForm key={data.settings_version} thresholds={data} isReadOnly={!may("operator", "")} />
      ) : thresholds.error ? null : (
        <Awaiting what="the thresholds" />
      )}
      {may("operator", "") ? <Subscribers /> : null}
    </>
  );
}

const checkThresholds = (values: Values): Errors => {
  const percent = readCount(values.budget_percent ?? "");
  return {
    ...Object.fromEntries(TIMES.map((name) => [name, readTime(values[name] ?? "") === undefined ? TIME_ERROR : undefined])),
    budget_percent: percent && percent <= 100 ? undefined : "Enter a percentage, 1 to 100.",
  };
};

function ThresholdForm({ thresholds, isReadOnly }: { thresholds: Thresholds; isReadOnly: boolean }) {
  const queries = useQueryClient();
  const initial: Values = {
    no_match: writeTime(thresholds.no_match_us),
    ceiling: writeTime(thresholds.ceiling_us),
    supplier: writeTime(thresholds.supplier_us),
    idle: writeTime(thresholds.idle_us),
    budget_percent: String(thresholds.budget_percent),
  };
  const form = useForm({
    initial,
    check: checkThresholds,
    send: (values) => {
      const changed = TIMES.filter((name) => values[name] !== initial[name]);
      const change = {
        ...Object.fromEntries(changed.map((name) => [`${name}_us`, readTime(values[name] ?? "")])),
        ...(values.budget_percent === initial.budget_percent ? {} : { budget_percent: Number(values.budget_percent) }),
      };
      return send<Thresholds>("PATCH", "/alerts/thresholds", change, thresholds.settings_version);
    },
    done: () => queries.invalidateQueries({ queryKey: ["thresholds"] }),
  });
  if (isReadOnly) {
    const rows = [
      { what: "Jobs wait for a requirement that nothing can satisfy", value: initial.no_match },
      { what: "Jobs wait while a pool is at its ceiling", value: initial.ceiling },
      { what: "A supplier fails", value: initial.supplier },
      { what: "Runners have had no job", value: initial.idle },
      { what: "Part of a pool's budget that is spent", value: `${initial.budget_percent} %` },
    ];
    return (
      <List
        rows={rows}
        id={(row) => row.what}
        empty=""
        columns={[
          { head: "an alert is raised when", cell: (row) => row.what },
          { head: "for", cell: (row) => row.value, right: true },
        ]}
      />
    );
  }
  return (
    <Box>
      <Box color="quiet" mb="10px">
        An alert is raised when a condition has lasted for this long. Times such as 10m, 2h or 7d.
      </Box>
      <Form form={form} submit="Change thresholds">
        <Row>
          <TextField name="no_match" label="No match" width="12em" hint="Nothing can satisfy a waiting job." />
          <TextField name="ceiling" label="At the ceiling" width="12em" hint="Jobs wait while a pool may not grow." />
          <TextField name="supplier" label="Supplier failing" width="12em" hint="Orders are refused or time out." />
          <TextField name="idle" label="Idle runners" width="12em" hint="Runners have had no job." />
          <TextField name="budget_percent" label="Budget spent" width="10em" inputMode="numeric" unit="%" hint="Of a pool's budget." />
        </Row>
      </Form>
    </Box>
  );
}

function Subscribers() {
  const subscribers = useSubscribers();
  const may = useMay();
  const [adding, setAdding] = useState(false);
  const [made, setMade] = useState<MadeSubscriber>();
  const manages = may("admin", "");
  return (
    <>
      <Heading beside={manages ? <Button onClick={() => setAdding(true)}>Add subscriber</Button> : null}>Subscribers</Heading>
      <Box color="quiet" maxW="60em" mb="8px">
        A subscriber is an address to which alerts are sent as CloudEvents, signed as Standard Webhooks. Failed deliveries are retried.
      </Box>
      {adding ? <AddSubscriber close={() => setAdding(false)} made={setMade} /> : null}
      {made ? (
        <SecretDialog title={`Signing secret of ${made.listener.name}`} secret={made.secret} close={() => setMade(undefined)}>
          The subscriber verifies the signature of each event with this secret.
        </SecretDialog>
      ) : null}
      {subscribers.error ? <Trouble error={subscribers.error} /> : null}
      {subscribers.data ? (
        <List
          rows={subscribers.data.items}
          id={(one) => one.name}
          empty="No subscribers yet. Add a subscriber to have alerts sent to a chat, a pager or a program."
          columns={[
            { head: "subscriber", cell: (one) => <b>{one.name}</b> },
            { head: "address", cell: (one) => <span title={one.url}>{one.url}</span> },
            { head: "alerts", cell: (one) => (one.kinds.length === 0 ? "all" : one.kinds.join(", ")), isMinor: true },
            { head: "state", cell: (one) => <Delivery subscriber={one} />, wrap: true },
            { head: "sent", cell: (one) => number(one.sent), right: true },
            {
              head: "",
              cell: (one) => (
                <Flex gap="6px" justify="flex-end" wrap="wrap">
                  {manages ? (
                    <>
                      <Act
                        word={one.paused ? "Resume" : "Pause"}
                        label={`${one.paused ? "Resume" : "Pause"} the subscriber ${one.name}`}
                        act={() => send("PATCH", addressOf(one), { paused: !one.paused }, one.settings_version)}
                        stale={["subscribers"]}
                      />
                      <Ask
                        word="Renew secret"
                        label={`Renew the signing secret of ${one.name}`}
                        action="Renew secret"
                        act={async () => setMade(await post<MadeSubscriber>(`${addressOf(one)}/renew`))}
                        stale={["subscribers"]}
                      >
                        Events are signed with both secrets for a while, so that the subscriber can change to the new one.
                      </Ask>
                      <Ask
                        word="Remove"
                        label={`Remove the subscriber ${one.name}`}
                        action="Remove subscriber"
                        act={() => remove(addressOf(one))}
                        stale={["subscribers"]}
                      >
                        Nothing is sent to {one.url} any more, events that could not be delivered included.
                      </Ask>
                    </>
                  ) : null}
                </Flex>
              ),
              right: true,
            },
          ]}
        />
      ) : subscribers.error ? null : (
        <Awaiting what="the subscribers" />
      )}
    </>
  );
}

function Delivery({ subscriber: { paused, failure, sent_at, previous_until } }: { subscriber: Subscriber }) {
  return (
    <>
      {failure ? (
        <Box color="rust">
          failing: {failure.message} (retried <Until at={failure.retry_at} />)
        </Box>
      ) : paused ? (
        <Box color="gritstone">paused</Box>
      ) : (
        <Box color="moss">
          {sent_at ? (
            <>
              last sent <Ago at={sent_at} />
            </>
          ) : (
            "nothing sent yet"
          )}
        </Box>
      )}
      {previous_until ? (
        <Box color="quiet">
          previous secret ends <Until at={previous_until} />
        </Box>
      ) : null}
    </>
  );
}

function AddSubscriber({ close, made }: { close: () => void; made: (subscriber: MadeSubscriber) => void }) {
  const queries = useQueryClient();
  const form = useForm({
    initial: { name: "", url: "", kinds: "" },
    check: ({ name, url }) => ({
      name: /^[\w-]+$/.test(name ?? "") ? undefined : "Enter a name of letters, digits, - and _.",
      url: /^https?:\/\/./.test(url ?? "") ? undefined : "Enter an address that begins with https:// or http://.",
    }),
    send: ({ name, url, kinds }) => post<MadeSubscriber>("/listeners", { name, url: url?.trim(), kinds: readWords(kinds ?? "") }),
    done: async (added) => {
      close();
      made(added);
      await queries.invalidateQueries({ queryKey: ["subscribers"] });
    },
  });
  return (
    <FormDialog title="Add a subscriber" form={form} submit="Add subscriber" close={close}>
      <TextField name="name" label="Name" isRequired autoFocus placeholder="pager" hint="Letters, digits, - and _." />
      <TextField name="url" label="Address" isRequired placeholder="https://alerts.example/pennine" />
      <TextField name="kinds" label="Kinds of alerts" placeholder="no-match target-missed" hint="Separated by blanks. Empty: all." />
    </FormDialog>
  );
}
