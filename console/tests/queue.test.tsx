// Actions on many jobs in the background, as the queue shows them.
import { cleanup, fireEvent, screen, waitFor } from "@testing-library/react";
import { afterEach, expect, it, vi } from "vitest";
import { Progress } from "../src/places/queue/Progress";
import { page, service } from "./page";

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

const action = (name: string, state: string) => ({
  name,
  request: { action: "cancel", reason: "no-match", preview: false },
  state,
  by: "admin",
  created_at: "2026-11-29T10:00:00Z",
  found: 12_000,
  handled: 4_500,
  changed: 4_400,
});

it("an action that runs shows how far it is and can be stopped; one that is over is not shown", async () => {
  const sent = service(200, { items: [action("b-7", "running"), action("b-6", "done")] });
  page(<Progress />);
  await screen.findByText("b-7: Cancelling 12,000 jobs, begun by admin");
  expect(screen.getByText("4,500 handled")).toBeTruthy();
  expect(screen.queryByText(/b-6/)).toBeNull();
  fireEvent.click(await screen.findByRole("button", { name: "Stop b-7" }));
  await waitFor(() => expect(sent.map(({ method, path }) => `${method} ${path}`)).toContain("POST /api/v1/jobs/actions/b-7/stop"));
});
