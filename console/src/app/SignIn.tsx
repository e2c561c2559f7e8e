// The page for signing in: with name and password, and a code where the account has a second factor, or with a token.
import { Box, Button } from "@chakra-ui/react";
import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useSearchParams } from "react-router";
import { Problem, post } from "../api/client";
import type { SignedIn } from "../api/client";
import { useSignInOptions } from "../api/hooks";
import { Form } from "../parts/form/Form";
import { TextField } from "../parts/form/fields";
import { useForm } from "../parts/form/state";
import { Alone } from "./Alone";

/** Why a sign-in through the provider failed. */
const FAILED: Record<string, string> = {
  "provider-away": "The sign-in provider does not answer. Try again later, or sign in with your password.",
  "provider-refused": "The sign-in provider's answer was not accepted. Details are in the service's log.",
  "sign-in-expired": "The sign-in took too long, or was begun in another browser. Sign in again.",
  "no-account": "There is no account for you here. Ask an administrator for one.",
  "account-disabled": "Your account is disabled. Ask an administrator.",
  "name-taken": "Your name is taken by another account. Ask an administrator to set the account's subject.",
};

export function SignIn() {
  const [withToken, setWithToken] = useState(false);
  const provider = useSignInOptions().data?.provider;
  const [params] = useSearchParams();
  const failed = params.get("sign_in");
  return (
    <Alone title="Sign in to Pennine">
      {failed ? (
        <Box role="alert" color="rust" mb="12px">
          {FAILED[failed] ?? "The sign-in failed. Try again."}
        </Box>
      ) : null}
      {provider ? (
        <Box mb="18px">
          {/* A page of the service, not of the console: the browser leaves for the provider. */}
          <Button asChild w="100%">
            <a href={new URL("sign-in/openid", document.baseURI).href} style={{ textDecoration: "none" }}>Sign in with {provider}</a>
          </Button>
        </Box>
      ) : null}
      {withToken ? <TokenForm /> : <PasswordForm />}
      <Button variant="ghost" mt="14px" ml="-8px" onClick={() => setWithToken(!withToken)}>
        {withToken ? "Sign in with name and password" : "Sign in with a token"}
      </Button>
    </Alone>
  );
}

/** Whether an error asks for the code of a second factor. */
const asksForCode = (error: unknown) => error instanceof Problem && (error.body.type ?? "").endsWith("second-factor-needed");

function PasswordForm() {
  const queries = useQueryClient();
  const [needsCode, setNeedsCode] = useState(false);
  const form = useForm({
    initial: { name: "", password: "", code: "" },
    check: ({ name, password, code }) => ({
      name: name?.trim() ? undefined : "Enter your name.",
      password: password ? undefined : "Enter your password.",
      code: needsCode && !code?.trim() ? "Enter the code." : undefined,
    }),
    send: async ({ name, password, code }) => {
      try {
        return await post<SignedIn>("/session", { name, password, ...(code?.trim() ? { code } : {}) });
      } catch (error) {
        if (!asksForCode(error)) throw error;
        setNeedsCode(true);
        return undefined;
      }
    },
    done: (signed) => (signed ? queries.resetQueries() : undefined),
  });
  return (
    <Form form={form} submit="Sign in">
      <TextField name="name" label="Name" autoComplete="username" autoFocus />
      <TextField
        name="password"
        label="Password"
        type="password"
        autoComplete="current-password"
        hint="An administrator can give you a link to set one: pennine person link NAME."
      />
      {needsCode ? (
        <TextField
          name="code"
          label="Code"
          autoComplete="one-time-code"
          autoFocus
          width="14em"
          hint="The one that your authenticator shows now, or a recovery code."
        />
      ) : null}
    </Form>
  );
}

function TokenForm() {
  const queries = useQueryClient();
  const form = useForm({
    initial: { token: "" },
    check: ({ token }) => ({ token: token?.trim() ? undefined : "Paste a token." }),
    send: ({ token }) => post<SignedIn>("/session", { token }),
    done: () => queries.resetQueries(),
  });
  return (
    <Form form={form} submit="Sign in">
      <TextField
        name="token"
        label="Token"
        type="password"
        autoComplete="current-password"
        autoFocus
        hint={
          <>
            The administrator&apos;s first token is in <code>admin.token</code> in the service&apos;s data folder.
          </>
        }
      />
    </Form>
  );
}
