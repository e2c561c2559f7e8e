// The waiting jobs with one reason and one thing missing, strand by strand, each with its remedy.
import { Box, Flex } from "@chakra-ui/react";
import { Link } from "react-router";
import type { QueueGroup } from "../../api/client";
import { counted, number } from "../../parts/count";
import { List } from "../../parts/list";
import { Glyph, reasonTone } from "../../parts/mark";
import { Remedy } from "../../parts/remedy";
import { micros } from "../../parts/time";

/** Remedies in words below a group: of its longest waits, so that the next group stays in sight. */
const TO_DO = 2;

/** `all` is the address that lists all strands of the group; none where they are listed page by page already. */
export function Group({ group, all }: { group: QueueGroup; all?: string }) {
  const rest = group.strand_count - group.strands.length;
  return (
    <Box mt="24px" data-reason={group.reason}>
      <Flex align="center" columnGap="8px" wrap="wrap" color={reasonTone(group.reason)}>
        <Glyph sign="tarn" />
        <Box as="h2" fontSize="17px" fontWeight="600">
          {group.reason}
          {group.cause ? `: ${group.cause}` : ""}
        </Box>
        <Box color="ink">
          {group.message}: {counted(group.jobs, "job")}
          {group.strand_count > 1 ? ` in ${number(group.strand_count)} strands` : ""}, longest wait {micros(group.longest_us)}
          {group.needs_a_person ? "; needs your attention" : ""}
        </Box>
        <Box flex="1" />
        <Flex color="ink" columnGap="18px" align="center" wrap="wrap">
          {all && rest > 0 ? <Link to={all}>Show {counted(rest, "more strand")}</Link> : null}
          {group.actions?.map((action) => <Remedy key={action.message} action={action} />)}
        </Flex>
      </Flex>
      <List
        rows={group.strands}
        id={(strand) => `${strand.project} ${strand.where} ${strand.band} ${strand.trust} ${JSON.stringify(strand.seats)}`}
        empty=""
        columns={[
          { head: "jobs", cell: (strand) => number(strand.jobs), width: "4em" },
          { head: "project", cell: (strand) => strand.project, width: "10em" },
          {
            head: "requirement",
            width: "16em",
            wrap: true,
            cell: (strand) => (
              <>
                {strand.where ? <code>{strand.where}</code> : <Box color="quiet">any runner</Box>}
                {Object.entries(strand.seats ?? {}).map(([name, count]) => (
                  <Box key={name} as="span" color="quiet">
                    {" "}
                    + {count} {name}
                  </Box>
                ))}
                {strand.trust === "untrusted" ? (
                  <Box as="span" color="quiet">
                    {" "}
                    (untrusted)
                  </Box>
                ) : null}
                {strand.band === "normal" ? null : (
                  <Box as="span" color="quiet">
                    {" "}
                    ({strand.band})
                  </Box>
                )}
              </>
            ),
          },
          { head: "longest", cell: (strand) => micros(strand.longest_us), right: true, width: "8em", isMinor: true },
          { head: "first", cell: (strand) => <Link to={`/jobs/${strand.first}`}>{strand.first}</Link>, width: "5em", isMinor: true },
          {
            head: "status",
            isMinor: true,
            wrap: true,
            cell: (strand) => strand.hints?.map((hint) => hintSaid(hint)).join("; ") || strand.message,
          },
          {
            head: "remedy",
            width: "13em",
            wrap: true,
            isActions: true,
            cell: (strand) => (
              <Flex gap="6px" wrap="wrap">
                {strand.actions?.map((action) => <Remedy key={action.message} action={action} />)}
              </Flex>
            ),
          },
        ]}
      />
      {[...new Set(group.strands.map((strand) => strand.remedy?.message))].slice(0, TO_DO).map((said) =>
        said ? (
          <Box key={said} mt="6px" color="quiet">
            To do: {said}
          </Box>
        ) : null,
      )}
    </Box>
  );
}

function hintSaid(hint: { word: string; nearest?: string | null }): string {
  const unknown = `no runner has “${hint.word}”`;
  return hint.nearest ? `${unknown}; did you mean “${hint.nearest}”?` : unknown;
}
