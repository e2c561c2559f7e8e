// The audit log: who did what, from where, and what was refused.
import { Box, Button, Flex } from "@chakra-ui/react";
import { useSearchParams } from "react-router";
import type { Schemas } from "../../api/client";
import { useAudit } from "../../api/hooks";
import { placeName } from "../../api/may";
import { Heading, List } from "../../parts/list";
import { SearchBox, useSearch } from "../../parts/search";
import { Ago } from "../../parts/time";
import { Awaiting, Trouble } from "../../parts/trouble";
import { save } from "../trends/csv";

type Entry = Schemas["AuditEntry"];

const DAY_US = 86_400_000_000;

const PERIODS = [
  { word: "24 h", days: 1 },
  { word: "7 d", days: 7 },
  { word: "30 d", days: 30 },
  { word: "1 y", days: 365 },
];

const by = ({ who, who_kind }: Entry) => {
  if (who === "") return "not signed in";
  return who_kind === "person" ? who : `${who_kind} ${who}`;
};

/** The values of a detail, each with its name. */
export function detailText(detail: unknown): string {
  if (detail === null || detail === undefined) return "";
  if (typeof detail !== "object" || Array.isArray(detail)) return JSON.stringify(detail);
  return Object.entries(detail)
    // What is not so is not worth a word.
    .filter(([, value]) => value !== null && value !== false)
    .map(([name, value]) => {
      const said = name.replaceAll("_", " ");
      return value === true ? said : `${said} ${typeof value === "string" ? value : JSON.stringify(value)}`;
    })
    .join(", ");
}

const asRow = (entry: Entry) => [
  entry.id,
  entry.at,
  entry.who,
  entry.who_kind,
  entry.address,
  entry.request,
  entry.place,
  entry.what,
  entry.subject,
  JSON.stringify(entry.detail),
];

const HEADS = ["id", "at", "who", "kind", "address", "request", "place", "what", "subject", "detail"];

export function Audit() {
  const [params, setParams] = useSearchParams();
  const of = useSearch();
  const who = useSearch("by");
  const what = useSearch("what");
  const days = Number(params.get("days") ?? 7) || 7;
  const cursor = params.get("before") ?? undefined;
  const log = useAudit({ by: who, of, what, lastUs: days * DAY_US, cursor });
  const look = (changes: Record<string, string | null>) =>
    setParams((now) => {
      for (const [name, value] of Object.entries({ before: null, ...changes })) {
        if (value) now.set(name, value);
        else now.delete(name);
      }
      return now;
    });
  const entries = log.data?.items ?? [];
  const next = log.data?.next;
  return (
    <>
      <Heading
        beside={
          <>
            <SearchBox label="Search subjects" placeholder="Pool, job, runner, person …" width="18em" drop={["before"]} />
            <SearchBox label="Filter by name" placeholder="By whom" name="by" width="10em" isMain={false} drop={["before"]} />
            <SearchBox label="Filter by kind" placeholder="Kind, such as pool" name="what" width="12em" isMain={false} drop={["before"]} />
          </>
        }
      >
        Audit log
      </Heading>
      <Box color="quiet" maxW="60em" mb="8px">
        Changes, sign-ins and refusals at the places where you are an administrator, and your own, the latest first.
      </Box>
      <Flex gap="8px" my="10px" wrap="wrap" align="center">
        <Flex gap="8px" role="group" aria-label="Period">
          {PERIODS.map((one) => (
            <Button key={one.days} aria-pressed={days === one.days} onClick={() => look({ days: String(one.days) })}>
              {one.word}
            </Button>
          ))}
        </Flex>
        {entries.length > 0 ? (
          <Button variant="ghost" onClick={() => save("audit.csv", [HEADS, ...entries.map(asRow)])}>
            Download as CSV
          </Button>
        ) : null}
      </Flex>
      {log.error ? <Trouble error={log.error} /> : null}
      {log.data ? (
        <List
          rows={entries}
          id={(entry) => String(entry.id)}
          empty="No entries match. Choose a longer period, or clear the filters."
          columns={[
            { head: "when", cell: (entry) => <Ago at={entry.at} /> },
            { head: "by", cell: (entry) => by(entry) },
            { head: "what", cell: (entry) => <b>{entry.what}</b> },
            { head: "subject", cell: (entry) => <span title={entry.subject}>{entry.subject}</span> },
            { head: "place", cell: (entry) => placeName(entry.place), isMinor: true },
            { head: "from", cell: (entry) => <span title={entry.request ? `request ${entry.request}` : undefined}>{entry.address}</span>, isMinor: true },
            {
              head: "detail",
              cell: (entry) => {
                const text = detailText(entry.detail);
                return <span title={text}>{text}</span>;
              },
              isMinor: true,
            },
          ]}
        />
      ) : log.error ? null : (
        <Awaiting what="the audit log" />
      )}
      <Flex gap="12px" mt="12px">
        {cursor ? <Button onClick={() => look({})}>Latest</Button> : null}
        {next ? <Button onClick={() => look({ before: next })}>Older</Button> : null}
      </Flex>
    </>
  );
}
