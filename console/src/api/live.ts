// Live changes: what the event stream says makes the queries that show it stale.
import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { address } from "./client";

type Change = { kind: string; subject: string };
type Message = { connected?: boolean; change?: Change };

/** Which queries show what kind of thing. */
const SHOWN: Record<string, string[]> = {
  job: ["status", "jobs", "job", "run", "runs", "runners"],
  attempt: ["status", "job", "run", "runners", "runner-time"],
  strand: ["job", "why"],
  // The leader has shown what waits anew.
  queue: ["status", "queue"],
  runner: ["status", "runners", "pools", "queue"],
  pool: ["pools", "queue", "status", "decisions", "relief"],
  machine: ["machines", "pools", "relief"],
  supplier: ["pools", "queue", "suppliers"],
  seat: ["seats"],
  listener: ["subscribers"],
  place: ["projects", "teams"],
  alert: ["alerts"],
  target: ["targets"],
  "yard-file": ["yard-file"],
  maintenance: ["maintenance", "pools", "runners", "queue"],
};

/** Expensive queries are repeated at most once per interval (ms), at any rate of events. */
const DEAR: Record<string, number> = { queue: 1_000, run: 1_000, runs: 1_000, status: 500, runners: 1_500, "runner-time": 3_000, relief: 1_000 };

/** Changes are gathered this long (ms), so that a burst of them costs one round of requests. */
const GATHER = 300;

function listen(hear: (message: Message) => void): () => void {
  const url = address("/events");
  if (typeof SharedWorker !== "undefined") {
    const worker = new SharedWorker(new URL("./live.worker.ts", import.meta.url), { type: "module", name: "pennine-live" });
    worker.port.onmessage = (event: MessageEvent<Message>) => hear(event.data);
    worker.port.start();
    worker.port.postMessage({ url });
    const bye = () => worker.port.postMessage({ bye: true });
    addEventListener("pagehide", bye);
    return () => {
      removeEventListener("pagehide", bye);
      bye();
    };
  }
  const source = new EventSource(url, { withCredentials: true });
  source.onopen = () => hear({ connected: true });
  source.onerror = () => hear({ connected: false });
  source.onmessage = (event) => hear({ change: JSON.parse(event.data as string) as Change });
  return () => source.close();
}

/** Keeps every query fresh while mounted; tells whether the stream is connected. */
export function useLive(): boolean {
  const client = useQueryClient();
  const [connected, setConnected] = useState(true);
  useEffect(() => {
    const stale = new Set<string>();
    let timer: ReturnType<typeof setTimeout> | undefined;
    let wasConnected: boolean | undefined;
    const asked = new Map<string, number>();
    const flush = () => {
      timer = undefined;
      const now = Date.now();
      for (const key of stale) {
        if (now - (asked.get(key) ?? 0) < (DEAR[key] ?? 0)) continue;
        asked.set(key, now);
        stale.delete(key);
        void client.invalidateQueries({ queryKey: [key] });
      }
      if (stale.size > 0) timer = setTimeout(flush, GATHER);
    };
    const stop = listen((message) => {
      if (message.connected !== undefined) {
        setConnected(message.connected);
        // Whatever was missed meanwhile: look at everything again.
        if (message.connected && wasConnected === false) void client.invalidateQueries();
        wasConnected = message.connected;
      }
      const noun = message.change?.kind.split(".")[0];
      for (const key of (noun && SHOWN[noun]) || []) stale.add(key);
      if (stale.size > 0) timer ??= setTimeout(flush, GATHER);
    });
    return () => {
      clearTimeout(timer);
      stop();
    };
  }, [client]);
  return connected;
}
