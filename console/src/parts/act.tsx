// A button that acts at once, and one that asks first; both say what went wrong beside them.
import { Button } from "@chakra-ui/react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import type { ReactNode } from "react";
import { Confirm } from "./form/Form";
import { Trouble } from "./trouble";

type ActProps = {
  /** What the button says. */
  word: string;
  /** What it is done to, for screen readers: "Pause the subscriber pager". */
  label: string;
  act: () => Promise<unknown>;
  /** The queries that show something else afterwards. */
  stale: string[];
};

export function Act({ word, label, act, stale }: ActProps) {
  const queries = useQueryClient();
  const done = useMutation({
    mutationFn: act,
    onSettled: () => queries.invalidateQueries({ queryKey: stale }),
  });
  return (
    <>
      <Button aria-label={label} loading={done.isPending} loadingText={word} onClick={() => done.mutate()}>
        {word}
      </Button>
      {done.error ? <Trouble error={done.error} /> : null}
    </>
  );
}

type AskProps = ActProps & {
  /** What the button in the dialog says: a verb and its object. */
  action: string;
  /** The consequence. */
  children: ReactNode;
};

export function Ask({ word, label, act, stale, action, children }: AskProps) {
  const queries = useQueryClient();
  const [asking, setAsking] = useState(false);
  const done = useMutation({
    mutationFn: act,
    onSuccess: async () => {
      setAsking(false);
      await queries.invalidateQueries({ queryKey: stale });
    },
  });
  return (
    <>
      <Button variant="ghost" aria-label={label} onClick={() => setAsking(true)}>
        {word} …
      </Button>
      {asking ? (
        <Confirm
          title={label}
          action={action}
          isPending={done.isPending}
          error={done.error}
          confirm={() => done.mutate()}
          close={() => setAsking(false)}
        >
          {children}
        </Confirm>
      ) : null}
    </>
  );
}
