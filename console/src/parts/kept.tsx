// What stands in the yard file is marked where it can be changed by hand: applied again, the file takes that back.
import { Box } from "@chakra-ui/react";
import { useYardFile } from "../api/hooks";
import { Ago } from "./time";

export function KeptInFile({ kind, name }: { kind: "team" | "project" | "seat" | "supplier" | "pool" | "target"; name: string }) {
  const file = useYardFile().data;
  if (!file?.things[kind]?.includes(name)) return null;
  return (
    <Box as="span" color="bracken" data-testid="kept-in-file">
      Managed by {file.name} (applied <Ago at={file.applied_at} /> by {file.applied_by}). Manual changes are overwritten by the
      next apply.
    </Box>
  );
}
