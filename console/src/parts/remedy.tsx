// A remedy as a button: says what it will do, asks once where that is asked for, and reports what happened.
import { Box, Button, Flex } from "@chakra-ui/react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { type RemedyAction, send } from "../api/client";
import { Trouble } from "./trouble";

export function Remedy({ action }: { action: RemedyAction }) {
  const cache = useQueryClient();
  const [asking, setAsking] = useState(false);
  const { mutate, isPending, isSuccess, error } = useMutation({
    mutationFn: () => send<unknown>(action.method, action.path, action.body),
    onSettled: () => {
      setAsking(false);
      void cache.invalidateQueries();
    },
  });
  if (isSuccess) {
    return (
      <Box role="status" color="moss" fontSize="14px">
        Done: {action.message}
      </Box>
    );
  }
  return (
    <Box>
      {asking ? (
        <Flex role="alertdialog" aria-label={action.message} align="center" gap="8px" wrap="wrap" fontSize="14px">
          <Box>{action.asks}</Box>
          <Button size="xs" bg="rust" color="ground" loading={isPending} onClick={() => mutate()}>
            {action.message}
          </Button>
          <Button size="xs" variant="outline" borderColor="rule" color="ink" onClick={() => setAsking(false)}>
            Cancel
          </Button>
        </Flex>
      ) : (
        <Button
          size="xs"
          variant="outline"
          borderColor="rule"
          color="ink"
          title={action.command}
          loading={isPending}
          onClick={() => (action.asks ? setAsking(true) : mutate())}
        >
          {action.message}
          {action.asks ? " …" : ""}
        </Button>
      )}
      {error ? <Trouble error={error} /> : null}
    </Box>
  );
}
