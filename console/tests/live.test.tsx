// Live changes make the queries stale that show them.
import { act, cleanup, screen } from "@testing-library/react";
import { afterEach, beforeEach, expect, it, vi } from "vitest";
import { useLive } from "../src/api/live";
import { page } from "./page";

class Stream {
  static last: Stream;
  onopen?: () => void;
  onerror?: () => void;
  onmessage?: (event: { data: string }) => void;
  closed = false;
  constructor() {
    Stream.last = this;
  }
  close() {
    this.closed = true;
  }
}

function Connected() {
  return <p data-testid="connected">{String(useLive())}</p>;
}

beforeEach(() => {
  vi.useFakeTimers();
  vi.stubGlobal("SharedWorker", undefined);
  vi.stubGlobal("EventSource", Stream);
});
afterEach(() => {
  cleanup();
  vi.useRealTimers();
  vi.unstubAllGlobals();
});

const change = (kind: string) =>
  act(() => Stream.last.onmessage?.({ data: JSON.stringify({ kind, subject: "00000000-0000-0000-0000-000000000001" }) }));

it("a burst of changes costs one round of requests, for the queries that show that kind of thing", () => {
  const { cache } = page(<Connected />);
  const asked = vi.spyOn(cache, "invalidateQueries");
  for (let i = 0; i < 50; i++) change("job.pending");
  change("queue.changed");
  change("alert.raised");
  expect(asked).not.toHaveBeenCalled();
  act(() => vi.advanceTimersByTime(350));
  const keys = asked.mock.calls.map(([filter]) => filter?.queryKey?.[0]).sort();
  expect(keys).toEqual(["alerts", "job", "jobs", "queue", "run", "runners", "runs", "status"]);
});

it("a kind that the console does not know changes nothing", () => {
  const { cache } = page(<Connected />);
  const asked = vi.spyOn(cache, "invalidateQueries");
  change("teapot.boiled");
  act(() => vi.advanceTimersByTime(2_000));
  expect(asked).not.toHaveBeenCalled();
});

it("a lost connection is said, and everything is looked at again when it is back", () => {
  const { cache } = page(<Connected />);
  const asked = vi.spyOn(cache, "invalidateQueries");
  act(() => Stream.last.onopen?.());
  expect(screen.getByTestId("connected").textContent).toBe("true");
  act(() => Stream.last.onerror?.());
  expect(screen.getByTestId("connected").textContent).toBe("false");
  act(() => Stream.last.onopen?.());
  expect(screen.getByTestId("connected").textContent).toBe("true");
  expect(asked.mock.calls).toEqual([[]]);
});
