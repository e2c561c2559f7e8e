// Trends: how long jobs waited, for what, how busy the machines were, and what it cost; each mark leads to the jobs behind
// it.
import { Box, Flex } from "@chakra-ui/react";
import type { ReactNode } from "react";
import { Link } from "react-router";
import type { TrendFigures, Trends as Data, LongestWait, WeekPattern } from "../../api/client";
import { useTrends, useWaits, useWeek } from "../../api/hooks";
import { Figures, Lead } from "../../parts/answer";
import { Heading, List } from "../../parts/list";
import { useMoney } from "../../parts/money";
import { number } from "../../parts/count";
import { micros } from "../../parts/time";
import { Awaiting, Trouble } from "../../parts/trouble";
import { WINDOWS, useAsked } from "./asked";
import type { Asked } from "./asked";
import { save } from "./csv";
import { REASONS, css } from "./reasons";
import { Reliefs } from "./Reliefs";
import { Choice, Shown } from "./Shown";
import { Targets } from "./Targets";
import { Waiting, peak, stepEnd, waitingRows, when } from "./Waiting";
import { MEASURES, WeekGrid, busyShare } from "./WeekGrid";

const zone = Intl.DateTimeFormat().resolvedOptions().timeZone;

const quantile = (one: TrendFigures["wait"]["p50"]) =>
  one ? `${one.at_least ? "at least " : ""}${micros(one.value_us)}${one.few ? " (few)" : ""}` : "";

const percent = (share: number | null) => (share === null ? "" : `${Math.round(share * 100)} %`);

const jobs = (figures: TrendFigures) => Object.values(figures.results).reduce((sum, count) => sum + count, 0);

const failed = (figures: TrendFigures) =>
  (figures.results.failure ?? 0) + (figures.results.error ?? 0) + (figures.results.timeout ?? 0);

export default function Trends() {
  const asked = useAsked();
  const trends = useTrends(`${asked.base}${asked.by ? `&by=${asked.by}` : ""}&compare=true`);
  const data = trends.data;
  return (
    <>
      {trends.error ? <Trouble error={trends.error} /> : null}
      {data ? <Lead>{data.answer}</Lead> : trends.error ? null : <Awaiting what="the figures" />}
      <Choices asked={asked} />
      {data ? <Found asked={asked} data={data} /> : null}
    </>
  );
}

function Choices({ asked }: { asked: Asked }) {
  const away = { from: null, until: null, reason: null };
  return (
    <Flex gap="6px" mt="12px" align="center" wrap="wrap" role="group" aria-label="Period">
      {WINDOWS.map(([word, , said]) => (
        <Choice key={word} on={asked.window === word} set={() => asked.set({ window: word, ...away })}>
          {said}
        </Choice>
      ))}
      {asked.narrow ? (
        <Flex ml="16px" gap="8px" align="center">
          <span>
            of {asked.narrow[0]} <b>{asked.narrow[1]}</b>
          </span>
          <Choice on={false} set={() => asked.set({ [asked.narrow![0]]: null, by: null, ...away })}>
            Show all jobs
          </Choice>
        </Flex>
      ) : null}
    </Flex>
  );
}

function Found({ asked, data }: { asked: Asked; data: Data }) {
  const { whole, before } = data;
  const money = useMoney();
  const owns = whole.offered_us != null;
  const against = (now: number | undefined, then: number | undefined) =>
    now === undefined || then === undefined || then === 0 ? "" : ` (${now >= then ? "+" : "−"}${Math.abs(Math.round((now / then - 1) * 100))} %)`;
  const cost = whole.cost ?? 0;
  const successes = whole.results.success ?? 0;
  const figures: [string, ReactNode][] = [
    ["waits", `${number(whole.wait.count)}${against(whole.wait.count, before?.wait.count)}`],
    ["p50", quantile(whole.wait.p50) || "–"],
    ["p95", `${quantile(whole.wait.p95) || "–"}${against(whole.wait.p95?.value_us, before?.wait.p95?.value_us)}`],
    ["still waiting", number(whole.wait.still_waiting)],
    ["jobs ended", `${number(jobs(whole))}, ${number(failed(whole))} failed`],
  ];
  if (owns) figures.push(["utilisation", percent(busyShare(whole)) || "–"]);
  if (cost > 0) {
    figures.push(["cost", `${money(cost)}${against(cost, before?.cost ?? undefined)}`]);
    if (successes > 0) figures.push(["per successful job", money(Math.floor(cost / successes))]);
  }
  return (
    <>
      <Figures figures={figures} />
      <Shown
        title={peak(data)}
        file="waiting.csv"
        rows={() => waitingRows(data)}
        chart={
          <Waiting
            trends={data}
            chosen={asked.at?.from ?? null}
            choose={(step) => asked.set({ from: step.at, until: stepEnd(data, step), reason: null })}
          />
        }
      />
      {asked.at ? <Behind asked={asked} at={asked.at} /> : null}
      {asked.narrow ? null : <Targets />}
      <Groups asked={asked} data={data} />
      {asked.narrow ? null : <Reliefs asked={asked} />}
      <Week asked={asked} owns={owns} />
      <Worst asked={asked} />
      <Box color="quiet" fontSize="13px" mt="18px">
        From {when(data.from)} until {when(data.until)}; includes work finished by {when(data.counted_until)} and work that goes
        on counts up to now. A percentile is by nearest rank of the waits that began in this time.
      </Box>
    </>
  );
}

/** The jobs that waited in the step that was chosen. */
function Behind({ asked, at }: { asked: Asked; at: NonNullable<Asked["at"]> }) {
  const query = new URLSearchParams({ from: at.from, until: at.until, limit: "50" });
  if (asked.narrow) query.set(...asked.narrow);
  if (at.reason) query.set("reason", at.reason);
  const waits = useWaits(query.toString());
  const found = waits.data?.items ?? [];
  const reasons = REASONS.filter(({ reason }) => found.some((one) => one.parts.some((part) => part.reason === reason)));
  return (
    <Box borderLeft="3px solid" borderColor="bracken" pl="14px" mt="14px" data-testid="behind">
      <Heading
        beside={
          <Flex gap="6px" wrap="wrap">
            {reasons.map(({ reason }) => (
              <Choice key={reason} on={at.reason === reason} set={() => asked.set({ reason: at.reason === reason ? null : reason })}>
                {reason}
              </Choice>
            ))}
            <Choice on={false} set={() => asked.set({ from: null, until: null, reason: null })}>
              Close
            </Choice>
          </Flex>
        }
      >
        Jobs waiting between {when(at.from)} and {when(at.until)}
      </Heading>
      {waits.error ? <Trouble error={waits.error} /> : null}
      {waits.data ? <Waits waits={found} /> : <Awaiting what="the jobs" />}
    </Box>
  );
}

function Worst({ asked }: { asked: Asked }) {
  const waits = useWaits(`${asked.base}&limit=10`);
  return (
    <>
      <Heading>Longest waits</Heading>
      {waits.error ? <Trouble error={waits.error} /> : null}
      {waits.data ? <Waits waits={waits.data.items} /> : <Awaiting what="the waits" />}
    </>
  );
}

function Waits({ waits }: { waits: LongestWait[] }) {
  return (
    <List
      rows={waits}
      id={(one) => `${one.job} ${one.ready_at}`}
      empty="No jobs waited in this period."
      columns={[
        { head: "job", cell: (one) => <Link to={`/jobs/${one.job}`}>{one.job}</Link>, width: "6em" },
        { head: "title", cell: (one) => one.title },
        { head: "project", cell: (one) => <Box color="quiet">{one.project}</Box> },
        { head: "ready", cell: (one) => when(one.ready_at) },
        { head: "waited", cell: (one) => micros(one.wait_us), right: true },
        { head: "for", cell: (one) => <Parts one={one} /> },
        { head: "runner", cell: (one) => one.runner ?? "" },
        { head: "then", cell: (one) => one.result ?? (one.ended_at ? "retried" : one.started_at ? "executing" : "waits") },
      ]}
    />
  );
}

/** A wait's parts to scale, with the longest in words. */
function Parts({ one }: { one: LongestWait }) {
  const first = one.parts[0];
  if (!first) return null;
  return (
    <Flex align="center" gap="8px" title={one.parts.map((part) => `${part.reason} ${micros(part.wait_us)}`).join(", ")}>
      <Flex w="90px" h="10px" flex="none">
        {one.parts.map((part) => (
          <div
            key={part.reason}
            style={{
              width: `${(part.wait_us / Math.max(1, one.wait_us)) * 100}%`,
              background: css(REASONS.find(({ reason }) => reason === part.reason)?.tone ?? "gritstone"),
            }}
          />
        ))}
      </Flex>
      <span>
        {first.reason} {percent(first.wait_us / Math.max(1, one.wait_us))}
      </span>
    </Flex>
  );
}

/** What a group can be looked at alone by. */
const ALONE: Record<string, string> = { pool: "pool", team: "team", project: "project", requirement: "where", supplier: "supplier", image: "image" };

function Groups({ asked, data }: { asked: Asked; data: Data }) {
  const money = useMoney();
  if (!asked.by) return null;
  const alone = asked.narrow ? undefined : ALONE[asked.by];
  const priced = data.groups.some((group) => (group.figures.cost ?? 0) > 0);
  const owned = data.groups.some((group) => group.figures.offered_us != null);
  const rows = () => [
    ["name", "waits", "p50 us", "p95 us", "waited us", "ended", "failed", "busy us", "offered us", "paid us", "overhead us", "cost millionths"],
    ...data.groups.map(({ name, figures }) => [
      name, figures.wait.count, figures.wait.p50?.value_us ?? "", figures.wait.p95?.value_us ?? "", figures.wait.sum_us,
      jobs(figures), failed(figures), figures.busy_us, figures.offered_us ?? "", figures.paid_us ?? "",
      figures.overhead_us ?? "", figures.cost ?? "",
    ]),
  ];
  return (
    <>
      <Heading
        beside={
          <Flex gap="6px" wrap="wrap">
            {asked.choices.map((by) => (
              <Choice key={by} on={asked.by === by} set={() => asked.set({ by })}>
                {by}
              </Choice>
            ))}
            <Choice on={false} set={() => save(`by-${asked.by}.csv`, rows())}>
              CSV
            </Choice>
          </Flex>
        }
      >
        By {asked.by}
      </Heading>
      <List
        rows={data.groups.slice(0, 40)}
        id={(group) => group.name}
        empty="No groups in this period."
        columns={[
          {
            head: asked.by,
            cell: ({ name }) => (alone ? <Link to={`?window=${asked.window}&${new URLSearchParams({ [alone]: name })}`}>{name}</Link> : name),
          },
          { head: "waits", cell: ({ figures }) => number(figures.wait.count), right: true },
          { head: "p50", cell: ({ figures }) => quantile(figures.wait.p50), right: true },
          { head: "p95", cell: ({ figures }) => quantile(figures.wait.p95), right: true },
          { head: "total wait", cell: ({ figures }) => micros(figures.wait.sum_us), right: true },
          { head: "main reason", cell: ({ figures }) => mostly(figures) },
          { head: "ended", cell: ({ figures }) => number(jobs(figures)), right: true },
          { head: "failed", cell: ({ figures }) => (failed(figures) ? number(failed(figures)) : ""), right: true },
          ...(owned ? [{ head: "busy", cell: ({ figures }: Data["groups"][number]) => percent(busyShare(figures)), right: true }] : []),
          ...(priced
            ? [
                { head: "boot and release", cell: ({ figures }: Data["groups"][number]) => (figures.paid_us ? percent((figures.overhead_us ?? 0) / figures.paid_us) : ""), right: true },
                { head: "cost", cell: ({ figures }: Data["groups"][number]) => (figures.cost ? money(figures.cost) : ""), right: true },
              ]
            : []),
        ]}
      />
    </>
  );
}

function mostly(figures: TrendFigures): string {
  const parts = Object.entries(figures.wait.by_reason).sort((a, b) => b[1] - a[1]);
  const first = parts[0];
  return first && figures.wait.sum_us > 0 ? `${first[0]} ${percent(first[1] / figures.wait.sum_us)}` : "";
}

const weekRows = (week: WeekPattern) => [
  ["day, 0 is Monday", "hour", "waits", "p50 us", "p95 us", "busy us", "offered us"],
  ...week.hours.map(({ day, hour, figures }) => [
    day, hour, figures.wait.count, figures.wait.p50?.value_us ?? "", figures.wait.p95?.value_us ?? "", figures.busy_us, figures.offered_us ?? "",
  ]),
];

function Week({ asked, owns }: { asked: Asked; owns: boolean }) {
  const week = useWeek(`${asked.base}&${new URLSearchParams({ zone })}`);
  const shown = MEASURES.filter((measure) => owns || measure.word !== "busy");
  return (
    <>
      <Heading
        beside={
          week.data ? (
            <Choice on={false} set={() => save("week.csv", weekRows(week.data))}>
              CSV
            </Choice>
          ) : null
        }
      >
        Hours of the week ({zone})
      </Heading>
      {week.error ? <Trouble error={week.error} /> : null}
      {week.data ? (
        <Flex gap="36px" wrap="wrap">
          {shown.map((measure) => (
            <Box key={measure.word} flex="1" minW={{ base: "100%", md: "30em" }}>
              <WeekGrid week={week.data} measure={measure} />
            </Box>
          ))}
        </Flex>
      ) : week.error ? null : (
        <Awaiting what="the hours of the week" />
      )}
    </>
  );
}
