// What went wrong, where and what to do; and what is awaited, once it takes long enough to wonder.
import { Box } from "@chakra-ui/react";
import { useEffect, useState } from "react";
import { Problem } from "../api/client";

export function Trouble({ error }: { error: unknown }) {
  const body = error instanceof Problem ? error.body : {};
  const said = error instanceof Error ? error.message : String(error);
  return (
    <Box role="alert" borderLeft="3px solid" borderColor="rust" bg="rustWash" p="8px 14px" my="10px" maxW="60em">
      <Box>
        {said}
        {body.field ? <Box as="span" color="quiet">{` (${body.field})`}</Box> : null}
      </Box>
      {body.remedy ? <Box color="quiet">{body.remedy}</Box> : null}
    </Box>
  );
}

/** Says what is awaited, but only when it takes longer than 300 ms. */
export function Awaiting({ what }: { what: string }) {
  const [late, setLate] = useState(false);
  useEffect(() => {
    const timer = setTimeout(() => setLate(true), 300);
    return () => clearTimeout(timer);
  }, []);
  return late ? (
    <Box color="quiet" role="status">
      Waiting for {what} …
    </Box>
  ) : null;
}
