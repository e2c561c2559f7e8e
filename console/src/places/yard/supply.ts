// How many machines a pool has, as it is typed: shared by the forms that add a pool and that change one.
import type { Pool, Schemas } from "../../api/client";
import type { Errors, Values } from "../../parts/form/state";
import { TIME_ERROR, readCount, readMoney, readPairs, readTime, writeTime } from "../../parts/form/values";

type Change = Schemas["SupplyChange"];
type Times = Schemas["Times"];

const DAYS = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"] as const;

/** The days of mon-fri or sat,sun; over the end of the week too. */
function readDays(text: string): Times["days"] | undefined {
  const days = new Set<string>();
  for (const part of text.toLowerCase().split(",")) {
    const [first = "", last = first] = part.split("-");
    const [from, to] = [DAYS.indexOf(first as never), DAYS.indexOf(last as never)];
    if (from < 0 || to < 0) return undefined;
    for (let day = from; ; day = (day + 1) % 7) {
      days.add(DAYS[day]!);
      if (day === to) break;
    }
  }
  return DAYS.filter((day) => days.has(day)) as Times["days"];
}

/** Lines such as `mon-fri 08:00-18:00 floor=2 spare=1`; or the first that has not this form. */
export function readWeek(text: string): { times: Times[] } | { wrong: string } {
  const times: Times[] = [];
  for (const line of text.split("\n").map((line) => line.trim()).filter(Boolean)) {
    const [, days = "", from = "", until = "", rest = ""] = /^(\S+)\s+(\d\d:\d\d)-(\d\d:\d\d)((?:\s+(?:floor|spare)=\d+)+)$/.exec(line) ?? [];
    const found = readDays(days);
    if (!found) return { wrong: `“${line}” has not the form mon-fri 08:00-18:00 floor=2 spare=1.` };
    const number = (name: string) => {
      const value = new RegExp(`\\b${name}=(\\d+)`).exec(rest)?.[1];
      return value === undefined ? null : Number(value);
    };
    times.push({ days: found, from, until, floor: number("floor"), spare: number("spare") });
  }
  return { times };
}

/** A stretch of the week as it is typed. */
export function writeTimes({ days, from, until, floor, spare }: Times): string {
  const on = DAYS.map((day) => (days as string[]).includes(day));
  const runs: string[] = [];
  for (let day = 0; day < 7; day++) {
    if (!on[day]) continue;
    const first = day;
    while (on[day + 1]) day++;
    runs.push(first === day ? DAYS[first]! : `${DAYS[first]}-${DAYS[day]}`);
  }
  return `${runs.join(",")} ${from}-${until}${floor == null ? "" : ` floor=${floor}`}${spare == null ? "" : ` spare=${spare}`}`;
}

const amount = (millionths: number | null | undefined) => (millionths == null ? "" : String(millionths / 1e6));
const pairs = (map: Record<string, unknown> | undefined) =>
  Object.entries(map ?? {}).map(([name, value]) => `${name}=${String(value)}`).join("\n");

/** What a form begins with: the pool's policy, or the defaults. */
export function supplyValues(supply?: Pool["supply"]): Values {
  return {
    supplier: supply?.supplier ?? "",
    image: supply?.image ?? "",
    size: supply?.size ?? "",
    floor: String(supply?.floor ?? 0),
    ceiling: String(supply?.ceiling ?? 1),
    spare: String(supply?.spare ?? 0),
    dwell: writeTime(supply?.dwell_us ?? 300e6),
    kind: supply?.single_use ? "single-use" : "standing",
    slots: String(supply?.slots ?? 1),
    price: amount(supply?.price),
    day_budget: amount(supply?.budget?.day),
    month_budget: amount(supply?.budget?.month),
    zone: supply?.week?.zone ?? "",
    during: (supply?.week?.times ?? []).map(writeTimes).join("\n"),
    settings: pairs(supply?.settings),
    facts: pairs(supply?.facts as Record<string, unknown> | undefined),
  };
}

export function checkSupply(values: Values): Errors {
  const number = (name: string) =>
    readCount(values[name] ?? "") === undefined ? "Enter a whole number, 0 or more." : undefined;
  const money = (name: string) =>
    values[name]?.trim() && readMoney(values[name]) === undefined ? "Enter an amount, such as 12.50." : undefined;
  const list = (name: string) => {
    const found = readPairs(values[name] ?? "");
    return "wrong" in found ? found.wrong : undefined;
  };
  const week = readWeek(values.during ?? "");
  return {
    floor: number("floor"),
    ceiling: number("ceiling"),
    spare: number("spare"),
    slots: readCount(values.slots ?? "") ? undefined : "Enter a whole number, 1 or more.",
    dwell: /^0s?$/.test(values.dwell ?? "") || readTime(values.dwell ?? "") !== undefined ? undefined : TIME_ERROR,
    price: money("price"),
    day_budget: money("day_budget"),
    month_budget: money("month_budget"),
    during: "wrong" in week ? week.wrong : undefined,
    settings: list("settings"),
    facts: list("facts"),
  };
}

/** What differs from what a form began with, as the service takes it. */
export function supplyChange(values: Values, before: Values): Partial<Change> {
  const is = (name: string) => (values[name] ?? "").trim() !== (before[name] ?? "").trim();
  const change: Record<string, unknown> = {};
  const clear: string[] = [];
  for (const name of ["supplier", "image", "size"]) if (is(name)) change[name] = values[name]?.trim();
  for (const name of ["floor", "ceiling", "spare", "slots"]) if (is(name)) change[name] = readCount(values[name] ?? "");
  for (const name of ["price", "day_budget", "month_budget"]) {
    if (!is(name)) continue;
    if (values[name]?.trim()) change[name] = readMoney(values[name]);
    else clear.push(name);
  }
  if (is("dwell")) change.dwell_us = readTime(values.dwell ?? "") ?? 0;
  if (is("kind")) change.single_use = values.kind === "single-use";
  if (is("during") || is("zone")) {
    const week = readWeek(values.during ?? "");
    change.week = { zone: values.zone?.trim() ?? "", times: "times" in week ? week.times : [] };
  }
  if (is("settings")) {
    const [now, then] = [readPairs(values.settings ?? ""), readPairs(before.settings ?? "")];
    const kept = "pairs" in now ? now.pairs : {};
    change.settings = kept;
    clear.push(...Object.keys("pairs" in then ? then.pairs : {}).filter((name) => !(name in kept)));
  }
  if (is("facts")) {
    const facts = readPairs(values.facts ?? "");
    change.facts = "pairs" in facts ? facts.pairs : {};
  }
  return clear.length > 0 ? { ...change, clear } : change;
}
