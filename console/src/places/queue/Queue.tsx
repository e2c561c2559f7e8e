// Queue: the waiting jobs by why they wait, each with its remedy.
import { Box, Flex } from "@chakra-ui/react";
import { Link } from "react-router";
import { useQueue, useStatus } from "../../api/hooks";
import { AnswerLine } from "../../parts/answer";
import { counted, number } from "../../parts/count";
import { List } from "../../parts/list";
import { Glyph, reasonTone } from "../../parts/mark";
import { Remedy } from "../../parts/remedy";
import { micros } from "../../parts/time";
import { Awaiting, Trouble } from "../../parts/trouble";
import { TryOut } from "./TryOut";

export default function Queue() {
  const queue = useQueue();
  const status = useStatus();
  const data = queue.data;
  if (!data) return queue.error ? <Trouble error={queue.error} /> : <Awaiting what="the queue" />;
  return (
    <>
      {queue.error ? <Trouble error={queue.error} /> : null}
      {status.data ? <AnswerLine pieces={status.data.pieces} /> : null}
      {data.groups.length === 0 ? (
        <Box color="quiet" mt="18px">
          Waiting jobs are listed here by reason, each with its remedy.
        </Box>
      ) : null}
      {data.groups.map((group) => (
        <Box key={group.reason} mt="24px" data-reason={group.reason}>
          <Flex align="center" columnGap="8px" wrap="wrap" color={reasonTone(group.reason)}>
            <Glyph sign="tarn" />
            <Box as="h2" fontSize="17px" fontWeight="600">
              {group.reason}
            </Box>
            <Box color="ink">
              {group.message}: {counted(group.jobs, "job")}, longest wait {micros(group.longest_us)}
              {group.needs_a_person ? "; needs your attention" : ""}
            </Box>
          </Flex>
          <List
            rows={group.strands}
            id={(strand) => `${strand.project} ${strand.where} ${strand.band} ${JSON.stringify(strand.seats)}`}
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
                cell: (strand) => (
                  <Flex gap="6px" wrap="wrap">
                    {strand.actions?.map((action) => <Remedy key={action.message} action={action} />)}
                  </Flex>
                ),
              },
            ]}
          />
          {[...new Set(group.strands.map((strand) => strand.remedy?.message))].map((said) =>
            said ? (
              <Box key={said} mt="6px" color="quiet">
                To do: {said}
              </Box>
            ) : null,
          )}
        </Box>
      ))}
      <TryOut />
    </>
  );
}

function hintSaid(hint: { word: string; nearest?: string | null }): string {
  const unknown = `no runner has “${hint.word}”`;
  return hint.nearest ? `${unknown}; did you mean “${hint.nearest}”?` : unknown;
}
