// People: who has which role where; added, granted, invited again, disabled; and by which role a person may do something.
import { Box, Button, Flex } from "@chakra-ui/react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { get, patch, post } from "../../api/client";
import type { Schemas } from "../../api/client";
import { usePeople, useWho } from "../../api/hooks";
import { grantsText, placeName, useMay } from "../../api/may";
import { Act, Ask } from "../../parts/act";
import { Form, FormDialog, Modal } from "../../parts/form/Form";
import { CheckField, Row, SelectField, TextField } from "../../parts/form/fields";
import { useForm } from "../../parts/form/state";
import { Heading, List } from "../../parts/list";
import { SearchBox, contains, useSearch } from "../../parts/search";
import { SecretDialog } from "../../parts/secret";
import { Ago } from "../../parts/time";
import { Awaiting, Trouble } from "../../parts/trouble";
import { Groups } from "./Groups";
import { RolesByPlace } from "./RolesByPlace";
import { GrantFields, GrantRow, PlaceField, useManagedPlaces, usePlaces } from "./grants";

type Person = Schemas["Person"];
type MadeLink = Schemas["MadeLink"];

const pathOf = (person: Person) => `/people/${encodeURIComponent(person.name)}`;

export function People() {
  const people = usePeople();
  const may = useMay();
  const search = useSearch();
  const [adding, setAdding] = useState(false);
  const [open, setOpen] = useState<string>();
  const [made, setMade] = useState<MadeLink>();
  const all = people.data?.items ?? [];
  const shown = all.filter(({ name, full_name, state, grants }) => contains(search, name, full_name, state, grantsText(grants)));
  const opened = all.find(({ name }) => name === open);
  return (
    <>
      <Heading
        beside={
          <>
            {may("admin") ? <Button onClick={() => setAdding(true)}>Add person</Button> : null}
            <SearchBox label="Search people" placeholder="Name, role or place" />
          </>
        }
      >
        People
      </Heading>
      <Box color="quiet" maxW="60em" mb="8px">
        A person has roles at places, each valid for the place and everything below it. A new person gets a link that works once, and sets
        a password with it.
      </Box>
      {adding ? <AddPerson close={() => setAdding(false)} made={setMade} /> : null}
      {opened ? <PersonDialog person={opened} close={() => setOpen(undefined)} made={setMade} /> : null}
      {made ? (
        <SecretDialog
          title={`Sign-in link of ${made.person.name}`}
          secret={made.link}
          action="Copy link"
          close={() => setMade(undefined)}
        >
          Send it to {made.person.full_name || made.person.name} privately. It sets a password, works once and
          expires after three days.
        </SecretDialog>
      ) : null}
      {people.error ? <Trouble error={people.error} /> : null}
      {people.data ? (
        <List
          rows={shown}
          id={(person) => person.name}
          empty={all.length === 0 ? "No people to show. Administrators see those who have a role at their place." : "No people match. Shorten or clear the search."}
          columns={[
            { head: "name", cell: (person) => <b>{person.name}</b> },
            { head: "full name", cell: (person) => person.full_name },
            {
              head: "state",
              cell: (person) => (
                <Box as="span" color={person.state === "active" ? undefined : "quiet"}>
                  {person.state}
                </Box>
              ),
            },
            { head: "roles", cell: (person) => grantsText(person.grants) },
            { head: "second factor", cell: (person) => (person.has_second_factor ? "on" : "off"), isMinor: true },
            {
              head: "signed in",
              cell: ({ signed_in_at }) => (signed_in_at ? <Ago at={signed_in_at} /> : "never"),
              isMinor: true,
            },
            {
              head: "",
              cell: (person) =>
                may("admin") ? (
                  <Button aria-label={`Change ${person.name}`} onClick={() => setOpen(person.name)}>
                    Change
                  </Button>
                ) : null,
              right: true,
            },
          ]}
        />
      ) : people.error ? null : (
        <Awaiting what="the people" />
      )}
      {people.data && may("admin") ? <Groups /> : null}
      {people.data && may("admin") ? <RolesByPlace people={all} /> : null}
    </>
  );
}

function AddPerson({ close, made }: { close: () => void; made: (link: MadeLink) => void }) {
  const queries = useQueryClient();
  const places = useManagedPlaces();
  const form = useForm({
    initial: { name: "", full_name: "", role: "viewer", place: places[0] ?? "" },
    check: ({ name }) => ({ name: /^[A-Za-z0-9][\w.-]*$/.test(name ?? "") ? undefined : "Enter letters, digits, - and _." }),
    send: ({ name, full_name, role, place }) => post<MadeLink>("/people", { name, full_name, role, place }),
    done: async (link) => {
      close();
      made(link);
      await queries.invalidateQueries({ queryKey: ["people"] });
    },
  });
  return (
    <FormDialog title="Add a person" form={form} submit="Add person" close={close}>
      <Row>
        <TextField name="name" label="Name" isRequired autoFocus width="14em" placeholder="mira" hint="To sign in with." />
        <TextField name="full_name" label="Full name" width="20em" placeholder="Mira Tveit" />
      </Row>
      <GrantFields places={places} />
    </FormDialog>
  );
}

function PersonDialog({ person, close, made }: { person: Person; close: () => void; made: (link: MadeLink) => void }) {
  const who = useWho().data;
  const may = useMay();
  const isSelf = who?.is_person === true && who.name === person.name;
  return (
    <Modal title={person.full_name ? `${person.full_name} (${person.name})` : person.name} close={close} width="700px">
      <List
        rows={person.grants}
        id={(grant) => grant.place || "/"}
        empty="No roles at places where you manage access."
        columns={[
          { head: "role", cell: (grant) => grant.role },
          { head: "valid at", cell: (grant) => placeName(grant.place) },
          {
            head: "",
            cell: (grant) =>
              may("admin", grant.place) && !isSelf ? (
                <Ask
                  word="Revoke"
                  label={`Revoke ${grant.role} of ${placeName(grant.place)}`}
                  action="Revoke role"
                  act={() => post(`${pathOf(person)}/grants/revoke`, { place: grant.place })}
                  stale={["people"]}
                >
                  {person.name} can no longer do there what this role permits, from now on, also with tokens of their own.
                </Ask>
              ) : null,
            right: true,
          },
        ]}
      />
      <AddGrant person={person} />
      <Explain person={person} />
      <Box as="h3" fontWeight="600" mt="22px" mb="8px">
        Account
      </Box>
      <Flex gap="10px" align="center" wrap="wrap">
        <LinkButton person={person} made={made} close={close} />
        {isSelf ? null : person.state === "disabled" ? (
          <Act
            word="Enable account"
            label={`Enable account of ${person.name}`}
            act={() => patch(pathOf(person), { disabled: false })}
            stale={["people"]}
          />
        ) : (
          <Ask
            word="Disable account"
            label={`Disable account of ${person.name}`}
            action="Disable account"
            act={() => patch(pathOf(person), { disabled: true })}
            stale={["people"]}
          >
            Sign-ins and own tokens of {person.name} are refused at once. What the person did stays on record.
          </Ask>
        )}
      </Flex>
    </Modal>
  );
}

function AddGrant({ person }: { person: Person }) {
  const queries = useQueryClient();
  const places = useManagedPlaces();
  const form = useForm({
    initial: { role: "viewer", place: places[0] ?? "" },
    send: ({ role, place }) => post<Person>(`${pathOf(person)}/grants`, { role, place }),
    done: () => queries.invalidateQueries({ queryKey: ["people"] }),
  });
  if (places.length === 0) return null;
  return (
    <Box mt="14px">
      <Form form={form} submit="Grant role">
        <GrantRow places={places} />
      </Form>
    </Box>
  );
}

/** The actions that the check offers, with their words. */
const ACTIONS = [
  { value: "view", label: "see jobs, logs and runners" },
  { value: "submit-job", label: "submit jobs" },
  { value: "cancel-job", label: "cancel jobs" },
  { value: "manage-pool", label: "change pools" },
  { value: "manage-runner", label: "pause, drain and retire runners" },
  { value: "change-place", label: "change teams and projects" },
  { value: "manage-access", label: "add people and tokens, grant roles" },
];

function Explain({ person }: { person: Person }) {
  const places = usePlaces();
  const form = useForm({
    initial: { action: "submit-job", place: person.grants[0]?.place ?? "" },
    send: async () => undefined,
  });
  const { action = "", place = "" } = form.values;
  const asked = useMutation({
    mutationFn: () => get<Schemas["Permission"]>(`${pathOf(person)}/permission?${new URLSearchParams({ action, place })}`),
  });
  return (
    <Box mt="22px">
      <Box as="h3" fontWeight="600" mb="8px">
        Permission check
      </Box>
      <Form form={{ ...form, submit: () => asked.mutate(), isPending: asked.isPending, failure: asked.error }} submit="Check permission">
        <Row>
          <SelectField name="action" label="May this person" width="26em" options={ACTIONS} />
          <PlaceField label="At" width="16em" places={places} />
        </Row>
        {asked.data ? <Box role="status">{asked.data.message}</Box> : null}
      </Form>
    </Box>
  );
}

function LinkButton({ person, made, close }: { person: Person; made: (link: MadeLink) => void; close: () => void }) {
  const [asking, setAsking] = useState(false);
  const form = useForm({
    initial: { second: "" },
    send: ({ second }) => post<MadeLink>(`${pathOf(person)}/link`, { removes_second_factor: second === "yes" }),
    done: (link) => {
      setAsking(false);
      close();
      made(link);
    },
  });
  if (person.state === "disabled") return null;
  return (
    <>
      <Button onClick={() => setAsking(true)}>Make sign-in link …</Button>
      {asking ? (
        <FormDialog title={`Sign-in link for ${person.name}`} form={form} submit="Make sign-in link" close={() => setAsking(false)}>
          <Box>
            With the link, the person sets another password; the present one stays valid until then. Earlier links are no longer valid.
          </Box>
          {person.has_second_factor ? (
            <CheckField name="second" label="Remove the second factor, too" hint="For a person who has lost the authenticator and the recovery codes." />
          ) : null}
        </FormDialog>
      ) : null}
    </>
  );
}
