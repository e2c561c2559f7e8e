// A remedy as a button: says what it will do, asks once where that is asked for, and reports what happened.
import { Box, Button } from "@chakra-ui/react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { type RemedyAction, send } from "../api/client";
import { Confirm } from "./form/Form";
import { Trouble } from "./trouble";

export function Remedy({ action }: { action: RemedyAction }) {
  const cache = useQueryClient();
  const [asking, setAsking] = useState(false);
  const { mutate, data, isPending, isSuccess, error } = useMutation({
    mutationFn: () => send<{ background?: string | null } | undefined>(action.method, action.path, action.body),
    onSuccess: () => setAsking(false),
    onSettled: () => cache.invalidateQueries(),
  });
  if (isSuccess) {
    return (
      <Box role="status" color="moss" fontSize="14px">
        {data?.background ? `In progress (${data.background})` : "Done"}: {action.message}
      </Box>
    );
  }
  return (
    <Box>
      <Button
        title={action.command}
        loading={isPending && !asking}
        loadingText={action.message}
        onClick={() => (action.asks ? setAsking(true) : mutate())}
      >
        {action.message}
        {action.asks ? " …" : ""}
      </Button>
      {asking ? (
        <Confirm
          title={action.message}
          action={action.message}
          isPending={isPending}
          error={error}
          confirm={() => mutate()}
          close={() => setAsking(false)}
        >
          {action.asks}
        </Confirm>
      ) : error ? (
        <Trouble error={error} />
      ) : null}
    </Box>
  );
}
