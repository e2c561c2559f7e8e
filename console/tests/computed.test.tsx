// What the console computes by itself: lengths of time, money, drawings, tables as files.
import { cleanup, screen } from "@testing-library/react";
import { afterEach, describe, expect, it, vi } from "vitest";
import { counted } from "../src/parts/count";
import { readCount, readMoney, readPairs, readTime, writeTime } from "../src/parts/form/values";
import { money } from "../src/parts/money";
import { capacity, demand, LevelTable, type Step, Terraces, topOf, WIDTH, across } from "../src/parts/terraces";
import { Ago, micros, spoken } from "../src/parts/time";
import { marks } from "../src/places/trends/Waiting";
import { save } from "../src/places/trends/csv";
import { readWeek, supplyChange, supplyValues, writeTimes } from "../src/places/yard/supply";
import { page } from "./page";

afterEach(cleanup);

describe("lengths of time", () => {
  it.each([
    [-5, "0 ms"],
    [0, "0 ms"],
    [0.4, "<1 ms"],
    [850, "850 ms"],
    [1_250, "1.2 s"],
    [9_990, "9.9 s"],
    [12_900, "12 s"],
    [60_000, "1 min"],
    [250_000, "4 min 10 s"],
    [7_500_000, "2 h 5 min"],
    [86_400_000, "1 d"],
    [273_600_000, "3 d 4 h"],
  ])("%d ms are said as %s", (ms, text) => expect(spoken(ms)).toBe(text));

  it("are read from microseconds", () => expect(micros(1_500)).toBe("1 ms"));

  it("say how long ago a moment is, with the exact one in the title", () => {
    vi.useFakeTimers({ now: Date.parse("2026-11-28T12:00:00Z") });
    page(<Ago at="2026-11-28T11:55:50Z" />);
    const time = screen.getByText("4 min 10 s ago");
    expect(time.tagName).toBe("TIME");
    expect(time.getAttribute("datetime")).toBe("2026-11-28T11:55:50Z");
    expect(time.title).toMatch(/2026/);
    vi.useRealTimers();
  });
});

describe("money", () => {
  it.each([
    [0, "", "0.00"],
    [4_537, "EUR", "under 0.01 EUR"],
    [10_000, "", "0.01"],
    [1_999_999, "EUR", "1.99 EUR"],
    [12_345_678_900, "EUR", "12,345.67 EUR"],
  ])("%d millionths in %s are %s", (millionths, currency, text) => expect(money(millionths, currency)).toBe(text));
});

it("counts have their thousands separated and their noun in number", () => {
  expect([counted(1, "job"), counted(1_798, "job"), counted(0, "job waits", "jobs wait")]).toEqual([
    "1 job",
    "1,798 jobs",
    "0 jobs wait",
  ]);
});

describe("what is typed", () => {
  it.each([
    ["90s", 90],
    ["20m", 1_200],
    ["1h 30m", 5_400],
    ["1h30m", 5_400],
    ["2d", 172_800],
    ["1.5h", 5_400],
  ])("%s is a length of time", (text, seconds) => expect(readTime(text)).toBe(seconds * 1e6));
  it.each(["", "90", "1h and more", "-1h", "h", "0s"])("“%s” is none", (text) => expect(readTime(text)).toBeUndefined());
  it("a length of time is written as it is read", () => {
    expect([90e6, 5_400e6, 172_800e6, 0].map(writeTime)).toEqual(["1m 30s", "1h 30m", "2d", "0s"]);
  });
  it("counts and amounts are exact", () => {
    expect([readCount("12"), readCount("-1"), readCount("1.5"), readCount("")]).toEqual([12, undefined, undefined, undefined]);
    expect([readMoney("12.5"), readMoney("0.000001"), readMoney("1e3"), readMoney("")]).toEqual([12_500_000, 1, undefined, undefined]);
  });
  it("pairs stand one on each line, and a wrong line is named", () => {
    expect(readPairs("CC=clang\n\n A = b=c \n")).toEqual({ pairs: { CC: "clang", A: "b=c" } });
    expect(readPairs("CC=clang\nnothing")).toEqual({ wrong: "“nothing” has not the form NAME=VALUE." });
  });
  it("weekly times are read and written alike, over the end of the week too", () => {
    const text = "mon-fri 08:00-18:00 floor=2 spare=1";
    const read = readWeek(text);
    expect("times" in read && read.times.map(writeTimes)).toEqual([text]);
    const over = readWeek("fri-mon 22:00-06:00 spare=3");
    expect("times" in over && over.times[0]).toMatchObject({ days: ["mon", "fri", "sat", "sun"], floor: null, spare: 3 });
    expect(readWeek("workdays 08:00-18:00 floor=1")).toHaveProperty("wrong");
    expect(readWeek("mon 08:00-18:00")).toHaveProperty("wrong");
  });
  it("only what differs from the policy is sent, and what was emptied is cleared", () => {
    const before = { ...supplyValues(), supplier: "chandler", day_budget: "20", settings: "zone=a\nkind=b" };
    expect(supplyChange(before, before)).toEqual({});
    const now = { ...before, ceiling: "8", dwell: "90s", kind: "single-use", day_budget: "", settings: "zone=c" };
    expect(supplyChange(now, before)).toEqual({
      ceiling: 8,
      dwell_us: 90e6,
      single_use: true,
      settings: { zone: "c" },
      clear: ["day_budget", "kind"],
    });
  });
});

const step = (ago_us: number, waiting: number, executing: number, idle: number, coming: number): Step =>
  ({ ago_us, waiting, executing, idle, coming }) as Step;

describe("the drawing of demand over capacity", () => {
  const steps = [step(3_600e6, 0, 1, 3, 0), step(1_800e6, 5, 4, 0, 2), step(0, 0, 2, 2, 0)];

  it("counts capacity and demand", () => {
    expect(steps.map(capacity)).toEqual([4, 6, 4]);
    expect(steps.map(demand)).toEqual([1, 9, 2]);
    expect(topOf(steps)).toBe(9);
    expect(topOf([])).toBe(2);
  });

  it("places moments from the left edge to the right", () => {
    expect(across(3_600e6, 3_600e6)).toBe(0);
    expect(across(1_800e6, 3_600e6)).toBe(WIDTH / 2);
    expect(across(0, 3_600e6)).toBe(WIDTH);
  });

  it("draws five outlines, each from the first step to the right edge, and none without steps", () => {
    const y = (slots: number) => 48 - slots;
    const { container, unmount } = page(
      <svg>
        <Terraces steps={steps} windowUs={3_600e6} y={y} ground={48} />
      </svg>,
    );
    const paths = [...container.querySelectorAll("path")].map((path) => path.getAttribute("d") ?? "");
    expect(paths).toHaveLength(5);
    // The ridge rises to 9 in the middle.
    expect(paths[4]).toBe("M0.0 47.0L600.0 47.0L600.0 39.0L1200.0 39.0L1200.0 46.0L1200.0 46.0");
    for (const path of paths.slice(0, 4)) expect(path).toMatch(/L1200 48L0.0 48Z$/);
    unmount();
    const { container: nothing } = page(
      <svg>
        <Terraces steps={[]} windowUs={1} y={y} ground={48} />
      </svg>,
    );
    expect(nothing.querySelectorAll("path")).toHaveLength(0);
  });

  it("has a table with the same values", () => {
    page(<LevelTable steps={steps} caption="the last hour" />);
    const table = screen.getByRole("table", { name: "the last hour" });
    expect([...table.querySelectorAll("th")].map((head) => head.textContent)).toEqual([
      "minutes ago",
      "waiting",
      "executing",
      "idle",
      "coming",
    ]);
    expect(table.querySelector("tbody tr")?.textContent).toBe("600130");
  });
});

describe("a table as a file", () => {
  it("quotes cells with commas, quotes and line breaks (RFC 4180)", async () => {
    let saved: Blob | undefined;
    vi.spyOn(URL, "createObjectURL").mockImplementation((blob) => {
      saved = blob as Blob;
      return "blob:saved";
    });
    vi.spyOn(URL, "revokeObjectURL").mockImplementation(() => {});
    save("waits.csv", [
      ["reason", "jobs"],
      ['say "when", please', 3],
      ["two\nlines", null],
    ]);
    expect(await saved?.text()).toBe('reason,jobs\r\n"say ""when"", please",3\r\n"two\nlines",\r\n');
  });
});

describe("the marks below the chart of waiting jobs", () => {
  /** Steps of an hour, from an hour of November 17 on. */
  const hours = (from: number, count: number) =>
    Array.from({ length: count }, (_, i) => ({ at: new Date(2026, 10, 17, from + i).toISOString() }));
  const days = (from: number, count: number) =>
    marks({ step_us: 3600e6, steps: hours(from, count) as Parameters<typeof marks>[0]["steps"] }).map((at) => new Date(at).getDate());

  it("are the first hours of days, at most ten", () => {
    expect(days(0, 5 * 24)).toEqual([17, 18, 19, 20, 21]);
    expect(days(0, 14 * 24)).toEqual([17, 19, 21, 23, 25, 27, 29]);
  });

  it("begin with the second where the first would have no room before it", () => {
    expect(days(23, 14 * 24)).toEqual([19, 21, 23, 25, 27, 29, 1]);
    expect(days(6, 5 * 24)).toEqual([17, 18, 19, 20, 21, 22]);
  });
});
