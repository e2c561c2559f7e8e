// What the console computes by itself: lengths of time, money, drawings, tables as files.
import { cleanup, screen } from "@testing-library/react";
import { afterEach, describe, expect, it, vi } from "vitest";
import { money } from "../src/parts/money";
import { capacity, demand, LevelTable, type Step, Terraces, topOf, WIDTH, across } from "../src/parts/terraces";
import { Ago, micros, spoken } from "../src/parts/time";
import { save } from "../src/places/trends/csv";
import { page } from "./page";

afterEach(cleanup);

describe("lengths of time", () => {
  it.each([
    [-5, "0 ms"],
    [0, "0 ms"],
    [0.4, "<1 ms"],
    [850, "850 ms"],
    [1_250, "1.3 s"],
    [12_900, "12 s"],
    [60_000, "1 min"],
    [250_000, "4 min 10 s"],
    [7_500_000, "2 h 5 min"],
    [86_400_000, "1 d"],
    [273_600_000, "3 d 4 h"],
  ])("%d ms are said as %s", (ms, text) => expect(spoken(ms)).toBe(text));

  it("are read from microseconds", () => expect(micros(1_500)).toBe("2 ms"));

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
    [0, "0.00"],
    [4_537, "0.004537"],
    [10_000, "0.01"],
    [1_999_999, "1.99"],
    [12_345_678_900, "12345.67"],
  ])("%d millionths are %s", (millionths, text) => expect(money(millionths)).toBe(text));
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
