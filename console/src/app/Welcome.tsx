// The page of a one-time link: its person sets a password and is signed in. The link's secret stands behind the # of the address,
// which is never sent by itself, and is removed from it once it is read.
import { Box, Button } from "@chakra-ui/react";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { post } from "../api/client";
import type { Schemas, SignedIn } from "../api/client";
import { Form } from "../parts/form/Form";
import { TextField } from "../parts/form/fields";
import { useForm } from "../parts/form/state";
import { PASSWORD_HINT, checkPassword } from "../parts/password";
import { Awaiting, Trouble } from "../parts/trouble";
import { Alone } from "./Alone";

type LinkOwner = Schemas["LinkOwner"];

export function Welcome() {
  const navigate = useNavigate();
  const [link] = useState(() => window.location.hash.slice(1));
  const owner = useQuery({
    queryKey: ["link", link],
    queryFn: () => post<LinkOwner>("/session/link", { link }),
    retry: false,
    staleTime: Infinity,
  });
  if (owner.data) return <SetPassword owner={owner.data} link={link} />;
  return (
    <Alone title="Sign in to Pennine">
      {owner.error ? (
        <>
          <Trouble error={owner.error} />
          <Button mt="14px" onClick={() => void navigate("/")}>
            Sign in
          </Button>
        </>
      ) : (
        <Awaiting what="the link" />
      )}
    </Alone>
  );
}

function SetPassword({ owner, link }: { owner: LinkOwner; link: string }) {
  const queries = useQueryClient();
  const navigate = useNavigate();
  const form = useForm({
    initial: { password: "", again: "", code: "" },
    check: ({ password, again, code }) => ({
      ...checkPassword("password", password, again),
      code: owner.needs_code && !code?.trim() ? "Enter the code." : undefined,
    }),
    send: ({ password, code }) => post<SignedIn>("/session/link/use", { link, password, ...(code?.trim() ? { code } : {}) }),
    done: async () => {
      await navigate("/", { replace: true });
      await queries.resetQueries();
    },
  });
  return (
    <Alone title={`Welcome to ${owner.installation}, ${owner.full_name || owner.name}`}>
      <Box mb="14px">
        Set a password. You sign in with it and the name <b>{owner.name}</b>.
      </Box>
      <Form form={form} submit="Set password and sign in">
        <input type="text" name="username" autoComplete="username" value={owner.name} readOnly hidden />
        <TextField name="password" label="Password" type="password" autoComplete="new-password" autoFocus hint={PASSWORD_HINT} />
        <TextField name="again" label="Password again" type="password" autoComplete="new-password" />
        {owner.needs_code ? (
          <TextField
            name="code"
            label="Code"
            autoComplete="one-time-code"
            width="14em"
            hint="The one that your authenticator shows now, or a recovery code."
          />
        ) : null}
      </Form>
    </Alone>
  );
}
