// The page for signing in with a token.
import { Box } from "@chakra-ui/react";
import { useQueryClient } from "@tanstack/react-query";
import { post } from "../api/client";
import type { SignedIn } from "../api/client";
import { Form } from "../parts/form/Form";
import { TextField } from "../parts/form/fields";
import { useForm } from "../parts/form/state";

export function SignIn() {
  const queries = useQueryClient();
  const form = useForm({
    initial: { token: "" },
    check: ({ token }) => ({ token: token?.trim() ? undefined : "Paste a token." }),
    send: ({ token }) => post<SignedIn>("/session", { token }),
    done: () => queries.resetQueries(),
  });
  return (
    <Box as="main" maxW="34em" mx="auto" mt="16vh" px="20px">
      <Box as="h1" fontSize="26px" fontWeight="500" mb="14px">
        Sign in to Pennine
      </Box>
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
    </Box>
  );
}
