// What is asked for stands in the address, so that a link shows what was seen.
import { useMemo } from "react";
import { useSearchParams } from "react-router";

export const WINDOWS: [string, number, string][] = [
  ["6h", 6 * 3600, "6 h"],
  ["1d", 86_400, "1 d"],
  ["7d", 7 * 86_400, "7 d"],
  ["14d", 14 * 86_400, "14 d"],
  ["90d", 90 * 86_400, "90 d"],
  ["1y", 365 * 86_400, "1 y"],
];

export const BY = ["pool", "team", "project", "requirement", "title", "runner", "supplier", "image"] as const;

/** What narrows the figures: one of these, by its name. */
const NARROW = ["pool", "team", "project", "where", "runner", "supplier", "image"] as const;

const WITHIN: Record<string, readonly string[]> = {
  pool: ["project", "team"],
  team: ["title", "project", "pool"],
  project: ["title", "pool"],
};

export type Asked = {
  window: string;
  /** The dimensions by which figures can be grouped; empty where there are none. */
  by: string | null;
  choices: readonly string[];
  /** What it is narrowed to, with its name. */
  narrow: [string, string] | null;
  /** The step and reason whose jobs are shown. */
  at: { from: string; until: string; reason: string } | null;
  /** Of the whole window: of what, and when. */
  base: string;
  set: (changes: Record<string, string | null>) => void;
};

export function useAsked(): Asked {
  const [params, setParams] = useSearchParams();
  return useMemo(() => {
    const window = WINDOWS.find(([word]) => word === params.get("window")) ?? WINDOWS[3]!;
    const key = NARROW.find((one) => params.get(one));
    const narrow = key ? ([key, params.get(key)!] as [string, string]) : null;
    // What sums are kept by, of what they are narrowed to; the first unless another is asked for.
    const choices: readonly string[] = narrow ? (WITHIN[narrow[0]] ?? []) : BY;
    const by = choices.find((one) => one === params.get("by")) ?? choices[0] ?? null;
    const base = new URLSearchParams({ last_us: String(window[1] * 1e6) });
    if (narrow) base.set(narrow[0], narrow[1]);
    const [from, until] = [params.get("from"), params.get("until")];
    return {
      window: window[0],
      by,
      choices,
      narrow,
      at: from && until ? { from, until, reason: params.get("reason") ?? "" } : null,
      base: base.toString(),
      set: (changes) =>
        setParams(
          (now) => {
            for (const [name, value] of Object.entries(changes)) {
              if (value === null) now.delete(name);
              else now.set(name, value);
            }
            return now;
          },
          { replace: true },
        ),
    };
  }, [params, setParams]);
}
