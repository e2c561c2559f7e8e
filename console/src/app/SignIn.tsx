import { Box, Button, Input } from "@chakra-ui/react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { post } from "../api/client";
import type { SignedIn } from "../api/client";
import { Trouble } from "../parts/trouble";

export function SignIn() {
  const [token, setToken] = useState("");
  const queries = useQueryClient();
  const signIn = useMutation({
    mutationFn: () => post<SignedIn>("/session", { token }),
    onSuccess: () => queries.resetQueries(),
  });
  return (
    <Box maxW="34em" mx="auto" mt="16vh" px="20px">
      <Box as="h1" fontSize="26px" fontWeight="500" mb="10px">
        Sign in to Pennine
      </Box>
      <Box color="quiet" mb="16px">
        Paste a token. The administrator's first token is in <code>admin.token</code> in the service's data folder.
      </Box>
      <form
        onSubmit={(event) => {
          event.preventDefault();
          signIn.mutate();
        }}
      >
        <label htmlFor="token">Token</label>
        <Input
          id="token"
          type="password"
          autoComplete="current-password"
          value={token}
          onChange={(event) => setToken(event.target.value)}
          bg="sheet"
          borderColor="rule"
          my="6px"
          autoFocus
        />
        <Button type="submit" bg="heather" color="ground" loading={signIn.isPending} disabled={token.trim() === ""}>
          Sign in
        </Button>
      </form>
      {signIn.error ? <Trouble error={signIn.error} /> : null}
    </Box>
  );
}
