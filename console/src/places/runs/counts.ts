// How many jobs of a run are in which state, in words.
import type { Schemas } from "../../api/client";

const WORDS: [keyof Schemas["RunCounts"], string][] = [
  ["executing", "executing"],
  ["pending", "pending"],
  ["held", "held"],
  ["failure", "failed"],
  ["skip", "skipped"],
  ["cancellation", "cancelled"],
  ["success", "succeeded"],
];

/** "2 executing, 1 held, 4 succeeded", the ones that matter first. */
export const countsText = (counts: Schemas["RunCounts"]) =>
  WORDS.filter(([key]) => counts[key] > 0)
    .map(([key, word]) => `${counts[key]} ${word}`)
    .join(", ");
