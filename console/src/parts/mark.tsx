// States by word, tone and a glyph of their own, drawn like the signs of a contour map's legend.
import type { ReactNode } from "react";
import type { Finding, JobLine, Machine, RunLine, Runner } from "../api/client";
import type { Tone } from "../app/theme";

type Sign =
  | "summit" | "cairn" | "ring" | "tarn" | "wall" | "bars" | "gap" | "cross" | "flag";

const DRAWN: Record<Sign, ReactNode> = {
  // A solid triangle: it executes.
  summit: <path d="M8 2.5 14 13H2z" fill="currentColor" />,
  // An open triangle on a line: it has succeeded.
  cairn: <path d="M8 3 12.5 11h-9zM2 14h12" fill="none" stroke="currentColor" strokeWidth="1.6" />,
  // A ring: ready and free.
  ring: <circle cx="8" cy="8" r="5" fill="none" stroke="currentColor" strokeWidth="2" />,
  // A ring in a ring: waits.
  tarn: (
    <g fill="none" stroke="currentColor" strokeWidth="1.5">
      <circle cx="8" cy="8" r="6" />
      <path d="M8 4.5V8l2.6 1.6" />
    </g>
  ),
  // A wall: paused.
  wall: <path d="M4.5 3v10M11.5 3v10" stroke="currentColor" strokeWidth="2.4" />,
  // Falling bars: draining, finalizing.
  bars: <path d="M2 4h12M4 8h8M6 12h4" stroke="currentColor" strokeWidth="1.8" />,
  // A broken ring: away.
  gap: (
    <circle cx="8" cy="8" r="5.2" fill="none" stroke="currentColor" strokeWidth="1.8" strokeDasharray="4 3.2" />
  ),
  // A cross: failed.
  cross: <path d="M3.5 3.5l9 9M12.5 3.5l-9 9" stroke="currentColor" strokeWidth="2.2" />,
  // A flag: expected.
  flag: <path d="M4.5 14V2.5h7L9.5 5.5l2 3h-7" fill="none" stroke="currentColor" strokeWidth="1.6" />,
};

export function Glyph({ sign }: { sign: Sign }) {
  return (
    <svg width="15" height="15" viewBox="0 0 16 16" aria-hidden="true" style={{ flex: "none" }}>
      {DRAWN[sign]}
    </svg>
  );
}

/** The glyph within a drawing. */
export const Drawn = ({ sign }: { sign: Sign }) => <>{DRAWN[sign]}</>;

type Look = { sign: Sign; tone: Tone };

const RUNNER: Record<Runner["state"], Look> = {
  awaited: { sign: "flag", tone: "gritstone" },
  available: { sign: "ring", tone: "moss" },
  busy: { sign: "summit", tone: "heather" },
  draining: { sign: "bars", tone: "gritstone" },
  paused: { sign: "wall", tone: "gritstone" },
  offline: { sign: "gap", tone: "rust" },
  retired: { sign: "cross", tone: "gritstone" },
};

const RESULT: Record<NonNullable<JobLine["result"]>, Look> = {
  success: { sign: "cairn", tone: "moss" },
  failure: { sign: "cross", tone: "rust" },
  error: { sign: "cross", tone: "rust" },
  timeout: { sign: "cross", tone: "rust" },
  cancellation: { sign: "bars", tone: "gritstone" },
  skip: { sign: "bars", tone: "gritstone" },
};

const NEEDS_A_PERSON = ["needs-approval", "no-match", "out-of-reach", "offline", "paused"];

/** The tone of a waiting reason. */
export const reasonTone = (reason: string): Tone =>
  reason === "handover" ? "gritstone" : NEEDS_A_PERSON.includes(reason) ? "rust" : "bracken";

const MARK = { display: "inline-flex", alignItems: "center", gap: 6, whiteSpace: "nowrap", verticalAlign: "bottom" } as const;

function Mark({ look, word }: { look: Look; word: string }) {
  return (
    // Plain: lists of thousands show one in every line.
    <span style={{ ...MARK, color: `var(--chakra-colors-${look.tone})` }}>
      <Glyph sign={look.sign} />
      <span>{word}</span>
    </span>
  );
}

export const RunnerMark = ({ state }: { state: Runner["state"] }) => <Mark look={RUNNER[state]} word={state} />;

const MACHINE: Record<Machine["state"], Look> = {
  ordered: { sign: "flag", tone: "gritstone" },
  booting: { sign: "tarn", tone: "bracken" },
  joined: { sign: "ring", tone: "moss" },
  releasing: { sign: "bars", tone: "gritstone" },
  gone: { sign: "gap", tone: "gritstone" },
  failed: { sign: "cross", tone: "rust" },
};

export const MachineMark = ({ state }: { state: Machine["state"] }) => <Mark look={MACHINE[state]} word={state} />;

const VERDICT: Record<Finding["verdict"], Look> = {
  passed: { sign: "cairn", tone: "moss" },
  warning: { sign: "flag", tone: "bracken" },
  failed: { sign: "cross", tone: "rust" },
};

/** How something was found. */
export const VerdictMark = ({ verdict }: { verdict: Finding["verdict"] }) => <Mark look={VERDICT[verdict]} word={verdict} />;

type Shown = Look & { word: string };

/** A job's glyph, tone and word: its reason while it waits, its result when it is done. */
export function jobLook(job: Pick<JobLine, "state" | "result" | "reason">): Shown {
  if (job.state === "done" && job.result) return { ...RESULT[job.result], word: job.result };
  if (job.state === "pending") {
    const reason = job.reason ?? "handover";
    return { sign: "tarn", tone: reasonTone(reason), word: `waits: ${reason}` };
  }
  if (job.state === "held") return { sign: "wall", tone: "gritstone", word: "held" };
  if (job.state === "finalizing") return { sign: "bars", tone: "heather", word: "finalizing" };
  return { sign: "summit", tone: "heather", word: job.state };
}

export function JobMark({ job }: { job: Pick<JobLine, "state" | "result" | "reason"> }) {
  const { word, ...look } = jobLook(job);
  return <Mark look={look} word={word} />;
}

const RUN: Record<RunLine["state"], Look> = {
  held: { sign: "wall", tone: "rust" },
  pending: { sign: "tarn", tone: "bracken" },
  executing: { sign: "summit", tone: "heather" },
  done: { sign: "cairn", tone: "moss" },
};

/** A run's state, and its result when it is done. */
export function RunMark({ run }: { run: Pick<RunLine, "state" | "result" | "overtaken_by"> }) {
  if (run.overtaken_by) return <Mark look={RESULT.cancellation} word="overtaken" />;
  if (run.state === "done" && run.result) return <Mark look={RESULT[run.result]} word={run.result} />;
  return <Mark look={RUN[run.state]} word={run.state} />;
}
