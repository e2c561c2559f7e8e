// What stands in the yard file is marked where it can be changed by hand: applied again, the file takes that back.
import { Box } from "@chakra-ui/react";
import { useYardFile } from "../api/hooks";
import { Ago } from "./time";

type Kept = {
  kind: "team" | "project" | "seat" | "supplier" | "pool" | "target";
  name: string;
  /** In a list: the file's name alone; the rest is said on hover. */
  isBrief?: boolean;
};

export function KeptInFile({ kind, name, isBrief }: Kept) {
  const file = useYardFile().data;
  if (!file?.things[kind]?.includes(name)) return null;
  if (isBrief) {
    const title = `Managed by ${file.name}, applied by ${file.applied_by}. Manual changes are overwritten by the next apply.`;
    return (
      <Box as="span" color="bracken" fontSize="13px" title={title} flex="none">
        in {file.name}
      </Box>
    );
  }
  return (
    <Box as="span" color="bracken" data-testid="kept-in-file">
      Managed by {file.name} (applied <Ago at={file.applied_at} /> by {file.applied_by}). Manual changes are overwritten by the
      next apply.
    </Box>
  );
}
