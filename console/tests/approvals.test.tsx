// Approvals: which projects may use a pool, given and withdrawn by its operators.
import { cleanup, fireEvent, screen, waitFor } from "@testing-library/react";
import { afterEach, expect, it, vi } from "vitest";
import type { Schemas } from "../src/api/client";
import { Approvals } from "../src/places/yard/Approvals";
import { answers, page } from "./page";
import type { Sent } from "./page";

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

function shown(pool: Partial<Schemas["Pool"]>, role: string): Sent[] {
  const sent = answers({
    "GET /session": { name: "ola", full_name: "", is_person: true, grants: [{ role, place: "" }], installation: "Skerry", version: "0" },
    "GET /projects": { items: [{ path: "firmware/buoy" }, { path: "chartroom/charts" }] },
    "POST /pools/tank/approvals": pool,
    "POST /pools/tank/approvals/withdraw": pool,
  });
  page(<Approvals pool={{ name: "tank", owner: "", asks_approval: true, approved: [], ...pool } as Schemas["Pool"]} />);
  return sent;
}

it("an operator approves a project that is not approved yet", async () => {
  const sent = shown({ approved: ["firmware/buoy"] }, "operator");
  expect(await screen.findByText("firmware/buoy")).toBeTruthy();
  fireEvent.click(await screen.findByRole("button", { name: "Approve project" }));
  const field = await screen.findByLabelText("Project");
  await waitFor(() => expect([...field.querySelectorAll("option")].map((one) => one.textContent)).toEqual(["Choose a project", "chartroom/charts"]));
  const buttons = await screen.findAllByRole("button", { name: "Approve project" });
  fireEvent.click(buttons[buttons.length - 1]!);
  expect(await screen.findByText("Choose a project.")).toBeTruthy();
  fireEvent.change(field, { target: { value: "chartroom/charts" } });
  fireEvent.click(buttons[buttons.length - 1]!);
  await waitFor(() => expect(sent.at(-1)).toEqual({ method: "POST", path: "/pools/tank/approvals", body: { project: "chartroom/charts" } }));
});

it("an approval is withdrawn after a question", async () => {
  const sent = shown({ approved: ["firmware/buoy"] }, "operator");
  fireEvent.click(await screen.findByRole("button", { name: "Withdraw the approval of firmware/buoy" }));
  fireEvent.click(await screen.findByRole("button", { name: "Withdraw approval" }));
  await waitFor(() => expect(sent.at(-1)).toEqual({ method: "POST", path: "/pools/tank/approvals/withdraw", body: { project: "firmware/buoy" } }));
});

it("a viewer sees the approved projects and no buttons", async () => {
  shown({}, "viewer");
  expect(await screen.findByText(/No projects are approved yet/)).toBeTruthy();
  await waitFor(() => expect(screen.queryByRole("button", { name: "Approve project" })).toBeNull());
});
