// Tokens: who has which role where, until when, and when each was last used; made, rotated and revoked.
import { Box, Button, Flex } from "@chakra-ui/react";
import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { patch, post } from "../../api/client";
import type { Schemas } from "../../api/client";
import { useTokens, useWho } from "../../api/hooks";
import { placeName, useMay } from "../../api/may";
import { Ask } from "../../parts/act";
import { FormDialog } from "../../parts/form/Form";
import { Row, SelectField, TextField } from "../../parts/form/fields";
import { useForm } from "../../parts/form/state";
import type { Errors, Values } from "../../parts/form/state";
import { TIME_ERROR, readTime, writeTime } from "../../parts/form/values";
import { Heading, List } from "../../parts/list";
import { SearchBox, useSearch } from "../../parts/search";
import { SecretDialog } from "../../parts/secret";
import { Ago, Until, useNow } from "../../parts/time";
import { Awaiting, Trouble } from "../../parts/trouble";
import { GrantFields, useManagedPlaces, usePlaces } from "./grants";

type Token = Schemas["Token"];
type MadeToken = Schemas["MadeToken"];

/** How long before its end a token is marked, in ms. */
const SOON = 7 * 86_400_000;

const PURPOSES = [
  { value: "", label: "everything that its role may" },
  { value: "read", label: "reading" },
  { value: "submit", label: "submitting and cancelling jobs" },
  { value: "runner-tickets", label: "tickets for runners" },
  { value: "metrics", label: "reading the metrics" },
];

function Expiry({ token }: { token: Token }) {
  const now = useNow();
  if (token.state !== "valid") return <Box color="quiet">{token.state}</Box>;
  if (!token.expires_at) return <>never</>;
  const isSoon = Date.parse(token.expires_at) - now < SOON;
  return (
    <Box as="span" color={isSoon ? "rust" : undefined}>
      <Until at={token.expires_at} />
    </Box>
  );
}

export function Tokens() {
  const search = useSearch();
  const tokens = useTokens(search);
  const may = useMay();
  const [adding, setAdding] = useState(false);
  const [changing, setChanging] = useState<Token>();
  const [rotating, setRotating] = useState<Token>();
  const [made, setMade] = useState<MadeToken>();
  const all = tokens.data?.items ?? [];
  const who = useWho().data;
  const isPerson = who?.is_person ?? false;
  const manages = may("admin") || isPerson;
  return (
    <>
      <Heading
        beside={
          <>
            {manages ? <Button onClick={() => setAdding(true)}>Add token</Button> : null}
            <SearchBox label="Search tokens" placeholder="Name, role, place or purpose" />
          </>
        }
      >
        Tokens
      </Heading>
      <Box color="quiet" maxW="60em" mb="8px">
        A token has a role at a place, valid for the place and everything below it. Programs should have a token of their own with the
        least role and the narrowest place that they need.
      </Box>
      {adding ? <AddToken close={() => setAdding(false)} made={setMade} /> : null}
      {changing ? <ChangeToken token={changing} close={() => setChanging(undefined)} /> : null}
      {rotating ? <RotateToken token={rotating} close={() => setRotating(undefined)} made={setMade} /> : null}
      {made ? (
        <SecretDialog title={`Secret of ${made.token.name}`} secret={made.secret} close={() => setMade(undefined)}>
          Programs send it as <code>Authorization: Bearer SECRET</code>; the command line reads it from <code>PENNINE_TOKEN</code>.
          It is {made.token.role} of {placeName(made.token.place)}.
        </SecretDialog>
      ) : null}
      {tokens.error ? <Trouble error={tokens.error} /> : null}
      {tokens.data ? (
        <List
          rows={all}
          id={(token) => token.name + token.created_at}
          empty={search === "" ? "No tokens to show." : "No tokens match. Shorten or clear the search."}
          columns={[
            { head: "token", cell: (token) => <b>{token.name}</b> },
            { head: "role", cell: (token) => token.role },
            { head: "place", cell: (token) => placeName(token.place) },
            { head: "limited to", cell: (token) => token.purpose ?? "", isMinor: true },
            { head: "expires", cell: (token) => <Expiry token={token} /> },
            {
              head: "last used",
              cell: ({ last_used_at, last_used_from }) =>
                last_used_at ? (
                  <span title={last_used_from ? `from ${last_used_from}` : undefined}>
                    <Ago at={last_used_at} />
                  </span>
                ) : (
                  "never"
                ),
              isMinor: true,
            },
            { head: "added by", cell: (token) => token.created_by, isMinor: true },
            {
              head: "",
              cell: (token) =>
                token.state === "revoked" ? null : (
                  <Flex gap="6px" justify="flex-end">
                    {token.state === "valid" && (token.owner ? token.owner === who?.name : may("admin", token.place)) ? (
                      <Button aria-label={`Change the token ${token.name}`} onClick={() => setChanging(token)}>
                        Change
                      </Button>
                    ) : null}
                    {token.owner && token.owner !== who?.name ? null : (
                      <Button aria-label={`Rotate the token ${token.name}`} onClick={() => setRotating(token)}>
                        Rotate
                      </Button>
                    )}
                    <Ask
                      word="Revoke"
                      label={`Revoke the token ${token.name}`}
                      action="Revoke token"
                      act={() => post(`/tokens/${encodeURIComponent(token.name)}/revoke`)}
                      stale={["tokens"]}
                    >
                      Programs that use it are refused at once, and its sign-ins at the console end. This cannot be undone.
                    </Ask>
                  </Flex>
                ),
              right: true,
            },
          ]}
        />
      ) : tokens.error ? null : (
        <Awaiting what="the tokens" />
      )}
      {tokens.data?.next ? <Box color="quiet">These are the first {all.length} tokens. Search for others.</Box> : null}
    </>
  );
}

const check = (values: Values): Errors => ({
  name: /^[\w-]+$/.test(values.name ?? "") ? undefined : "Enter a name of letters, digits, - and _.",
  lifetime: readTime(values.lifetime ?? "") === undefined ? TIME_ERROR : undefined,
});

function AddToken({ close, made }: { close: () => void; made: (token: MadeToken) => void }) {
  const queries = useQueryClient();
  const isPerson = useWho().data?.is_person ?? false;
  const [places, managed] = [usePlaces(), useManagedPlaces()];
  const [isOwn, setIsOwn] = useState(isPerson);
  const mine = isOwn ? places : managed;
  const form = useForm({
    initial: { name: "", role: isPerson ? "admin" : "viewer", place: mine[0] ?? "", purpose: "", lifetime: "90d" },
    check,
    send: ({ name, role, place, purpose, lifetime }) =>
      post<MadeToken>("/tokens", {
        name,
        role,
        place,
        ...(purpose ? { purpose } : {}),
        lifetime_us: readTime(lifetime ?? ""),
        is_own: isOwn,
      }),
    done: async (token) => {
      close();
      made(token);
      await queries.invalidateQueries({ queryKey: ["tokens"] });
    },
  });
  return (
    <FormDialog title="Add a token" form={form} submit="Add token" close={close}>
      {isPerson && managed.length > 0 ? (
        <Flex as="label" gap="8px" align="center">
          <input type="checkbox" name="own" checked={isOwn} onChange={(event) => setIsOwn(event.target.checked)} />
          <span>Own token: it permits at most what you may do yourself, and ends with your account</span>
        </Flex>
      ) : null}
      <TextField name="name" label="Name" isRequired autoFocus placeholder="provisioning" hint="The person or program that uses it. Letters, digits, - and _." />
      {isOwn ? <GrantFields places={mine} role="At most" hint="Your own roles limit it, too." /> : <GrantFields places={mine} />}
      <Row>
        <SelectField name="purpose" label="Limited to" width="22em" options={PURPOSES} />
        <TextField name="lifetime" label="Valid for" width="9em" hint="Such as 12h or 90d." />
      </Row>
    </FormDialog>
  );
}

function ChangeToken({ token, close }: { token: Token; close: () => void }) {
  const queries = useQueryClient();
  const [places, managed] = [usePlaces(), useManagedPlaces()];
  const lifetime = token.expires_at ? writeTime((Date.parse(token.expires_at) - Date.parse(token.renewed_at)) * 1000) : "";
  const form = useForm({
    initial: { role: token.role, place: token.place, purpose: token.purpose ?? "", lifetime },
    check: (values) => ({ lifetime: values.lifetime === lifetime || readTime(values.lifetime ?? "") !== undefined ? undefined : TIME_ERROR }),
    send: (values) =>
      patch<Token>(`/tokens/${encodeURIComponent(token.name)}`, {
        role: values.role,
        place: values.place,
        purpose: values.purpose || null,
        ...(values.lifetime === lifetime ? {} : { lifetime_us: readTime(values.lifetime ?? "") }),
      }),
    done: async () => {
      close();
      await queries.invalidateQueries({ queryKey: ["tokens"] });
    },
  });
  return (
    <FormDialog title={`Change the token ${token.name}`} form={form} submit="Change token" close={close}>
      <Box>The secret stays: what uses the token goes on with what it permits from now on.</Box>
      <GrantFields places={token.owner ? places : managed} role={token.owner ? "At most" : "Role"} />
      <Row>
        <SelectField name="purpose" label="Limited to" width="22em" options={PURPOSES} />
        <TextField name="lifetime" label="Valid for" width="9em" hint="Since its last rotation." />
      </Row>
    </FormDialog>
  );
}

function RotateToken({ token, close, made }: { token: Token; close: () => void; made: (token: MadeToken) => void }) {
  const queries = useQueryClient();
  const form = useForm({
    initial: { overlap: "1d" },
    check: ({ overlap }) => ({ overlap: overlap === "0" || readTime(overlap ?? "") !== undefined ? undefined : TIME_ERROR }),
    send: ({ overlap }) =>
      post<MadeToken>(`/tokens/${encodeURIComponent(token.name)}/rotate`, { overlap_us: readTime(overlap ?? "") ?? 0 }),
    done: async (rotated) => {
      close();
      made(rotated);
      await queries.invalidateQueries({ queryKey: ["tokens"] });
    },
  });
  return (
    <FormDialog title={`Rotate the token ${token.name}`} form={form} submit="Rotate token" close={close}>
      <Box>The token gets a new secret. The present one stays valid for a while, so that what uses it does not break.</Box>
      <TextField name="overlap" label="Keep the present secret for" width="12em" hint="Such as 12h or 2d; 0 ends it at once." />
    </FormDialog>
  );
}
