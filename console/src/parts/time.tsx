// Times: relative to now, with the exact one on hover, in the reader's zone.
import { createContext, useContext, useEffect, useState } from "react";
import type { ReactNode } from "react";

const NowContext = createContext(Date.now());

/** How far the service's clock is ahead of this machine's, in ms; learnt from answers. */
let ahead = 0;

/** Takes note of what time the service says it is. */
export function learnTime(moment: string | undefined) {
  if (moment) ahead = Date.parse(moment) - Date.now();
}

/** The service's time, every second. */
export function NowProvider({ children }: { children: ReactNode }) {
  const [now, setNow] = useState(() => Date.now() + ahead);
  useEffect(() => {
    const timer = setInterval(() => setNow(Date.now() + ahead), 1000);
    return () => clearInterval(timer);
  }, []);
  return <NowContext value={now}>{children}</NowContext>;
}

export const useNow = () => useContext(NowContext);

/** A length of time as the service says it: 850 ms, 12 s, 4 min 10 s, 2 h 5 min, 3 d 4 h. */
export function spoken(ms: number): string {
  const seconds = Math.floor(ms / 1000);
  const pair = (big: number, unit: string, rest: number, small: string) =>
    rest === 0 ? `${big} ${unit}` : `${big} ${unit} ${rest} ${small}`;
  if (ms < 1) return ms <= 0 ? "0 ms" : "<1 ms";
  if (seconds < 1) return `${Math.floor(ms)} ms`;
  if (seconds < 10) return `${(Math.floor(ms / 100) / 10).toFixed(1)} s`;
  if (seconds < 60) return `${seconds} s`;
  if (seconds < 3600) return pair(Math.floor(seconds / 60), "min", seconds % 60, "s");
  if (seconds < 86_400) return pair(Math.floor(seconds / 3600), "h", Math.floor(seconds / 60) % 60, "min");
  return pair(Math.floor(seconds / 86_400), "d", Math.floor(seconds / 3600) % 24, "h");
}

/** Microseconds, spoken. */
export const micros = (us: number) => spoken(us / 1000);

const exact = new Intl.DateTimeFormat(undefined, { dateStyle: "medium", timeStyle: "long" });

/** A moment, as how long ago it is. */
export function Ago({ at }: { at: string }) {
  const now = useNow();
  const moment = Date.parse(at);
  return (
    <time dateTime={at} title={exact.format(moment)}>
      {spoken(Math.max(0, Math.floor((now - moment) / 1000) * 1000))} ago
    </time>
  );
}

/** How long it is until then. */
export function Until({ at }: { at: string }) {
  const left = Math.max(0, Math.floor((Date.parse(at) - useNow()) / 1000) * 1000);
  return (
    <time dateTime={at} title={exact.format(Date.parse(at))}>
      in {spoken(left)}
    </time>
  );
}

/** How long something has gone on that began at a moment. */
export function Since({ at }: { at: string }) {
  const now = useNow();
  return <>{spoken(Math.max(0, now - Date.parse(at)))}</>;
}
