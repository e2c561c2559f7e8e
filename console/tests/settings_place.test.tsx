// The settings place: who may do what there, and what its forms send.
import { cleanup, fireEvent, screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, expect, it, vi } from "vitest";
import { Route, Routes } from "react-router";
import { below } from "../src/api/may";
import Settings from "../src/places/settings/Settings";
import { answers, page } from "./page";
import type { Sent } from "./page";

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

const AT = "2026-11-30T09:00:00Z";
const token = (name: string, role: string, place: string) => ({
  name, role, place, state: "valid", created_at: AT, created_by: "admin", renewed_at: AT, expires_at: "2099-01-01T00:00:00Z",
});
const team = { id: "1", name: "firmware", path: "firmware", kind: "team", created_at: AT, weight: 2, held: 3, limit: 8, settings_version: "v1" };
const project = { id: "2", name: "buoy", path: "firmware/buoy", kind: "project", created_at: AT, weight: 1, held: 1, settings_version: "v2" };
const holder = { job: "j-7", project: "firmware/buoy", runner: "fell-01", count: 1, since: AT };
const thresholds = { no_match_us: 6e8, ceiling_us: 18e8, supplier_us: 6e8, idle_us: 6048e8, budget_percent: 80, settings_version: "v3" };

/** The settings of a token with a role at a place, at a section. */
function settings(section: string, role: string, place: string, more: Record<string, unknown> = {}, who: object = {}): Sent[] {
  const sent = answers({
    "GET /session": { name: "mira", grants: [{ role, place }], installation: "Skerry", version: "0", ...who },
    "GET /tokens": { items: [token("deploy", "submitter", "firmware")] },
    "GET /teams": { items: [team] },
    "GET /projects": { items: [project] },
    "GET /seats": { items: [{ name: "compiler", description: "", count: 3, taken: 1, holders: [holder] }] },
    "GET /suppliers": { items: [] },
    "GET /alerts/thresholds": thresholds,
    "GET /listeners": { items: [] },
    "GET /yard-file": null,
    ...more,
  });
  page(
    <Routes>
      <Route path="/settings/:section?" element={<Settings />} />
    </Routes>,
    `/settings/${section}`,
  );
  return sent;
}

it("a place is below another by whole names", () => {
  expect([below("", "shore"), below("firmware", "firmware/buoy"), below("firmware", "firmware")]).toEqual([true, true, true]);
  expect([below("firmware", "firmwares"), below("firmware/buoy", "firmware"), below("shore", "")]).toEqual([false, false, false]);
});

it("without a section the tokens are shown, and who is signed in with which role where", async () => {
  settings("", "admin", "firmware");
  expect(await screen.findByText(/You are signed in as mira: admin of firmware/)).toBeTruthy();
  expect(screen.getByTestId("address").textContent).toBe("/settings/tokens");
});

it("a token is added for a place that its maker manages, and its secret is shown once", async () => {
  const made = { token: token("provisioning", "operator", "firmware/buoy"), secret: "pen-token-made-up" };
  const sent = settings("tokens", "admin", "firmware", { "POST /tokens": made });
  fireEvent.click(await screen.findByRole("button", { name: "Add token" }));
  const form = within(await screen.findByRole("dialog"));
  const places = await waitFor(() => {
    const options = [...form.getByLabelText<HTMLSelectElement>("Place").options].map((option) => option.value);
    expect(options).toEqual(["firmware", "firmware/buoy"]);
    return form.getByLabelText("Place");
  });
  fireEvent.change(form.getByLabelText(/^Name/), { target: { value: "provisioning" } });
  fireEvent.change(form.getByLabelText("Role"), { target: { value: "operator" } });
  fireEvent.change(places, { target: { value: "firmware/buoy" } });
  fireEvent.change(form.getByLabelText("Limited to"), { target: { value: "runner-tickets" } });
  fireEvent.change(form.getByLabelText("Valid for"), { target: { value: "soon" } });
  fireEvent.click(form.getByRole("button", { name: "Add token" }));
  expect((await form.findByRole("alert")).textContent).toContain("Enter a length of time");
  fireEvent.change(form.getByLabelText("Valid for"), { target: { value: "30d" } });
  fireEvent.click(form.getByRole("button", { name: "Add token" }));
  expect((await screen.findByTestId("secret")).textContent).toBe("pen-token-made-up");
  const body = { name: "provisioning", role: "operator", place: "firmware/buoy", purpose: "runner-tickets", lifetime_us: 2_592_000_000_000, is_own: false };
  expect(sent).toEqual([{ method: "POST", path: "/tokens", body }]);
});

it("a token is rotated with an overlap, and revoked after a question", async () => {
  const made = { token: token("deploy", "submitter", "firmware"), secret: "pen-token-next" };
  const sent = settings("tokens", "admin", "", {
    "POST /tokens/deploy/rotate": made,
    "POST /tokens/deploy/revoke": made.token,
  });
  fireEvent.click(await screen.findByRole("button", { name: "Rotate the token deploy" }));
  fireEvent.change(await screen.findByLabelText("Keep the present secret for"), { target: { value: "2d" } });
  fireEvent.click(await screen.findByRole("button", { name: "Rotate token" }));
  await screen.findByTestId("secret");
  fireEvent.click(await screen.findByRole("button", { name: "Done" }));
  fireEvent.click(await screen.findByRole("button", { name: "Revoke the token deploy" }));
  fireEvent.click(await screen.findByRole("button", { name: "Revoke token" }));
  await waitFor(() => expect(sent.length).toBe(2));
  expect(sent[0]).toEqual({ method: "POST", path: "/tokens/deploy/rotate", body: { overlap_us: 172_800_000_000 } });
  expect(sent[1]?.path).toBe("/tokens/deploy/revoke");
});

it("a viewer is offered nothing that the service would refuse", async () => {
  settings("teams", "viewer", "firmware");
  expect(await screen.findByText(/viewer of firmware/)).toBeTruthy();
  expect(await screen.findByText("buoy")).toBeTruthy();
  expect(screen.queryAllByRole("button").map((button) => button.textContent)).toEqual([]);
});

it("a team's operators change its projects, and not the team itself", async () => {
  settings("teams", "operator", "firmware");
  expect(await screen.findByText(/operator of firmware/)).toBeTruthy();
  expect(await screen.findByRole("button", { name: "Change firmware/buoy" })).toBeTruthy();
  expect(screen.queryByRole("button", { name: "Change firmware" })).toBeNull();
});

it("a change of a team sends what was changed, under the version that was read; an empty limit removes it", async () => {
  const sent = settings("teams", "operator", "", { "PATCH /places/firmware": team });
  fireEvent.click(await screen.findByRole("button", { name: "Change firmware" }));
  const user = userEvent.setup();
  await user.clear(await screen.findByLabelText("Limit"));
  await user.type(screen.getByLabelText("Jobs give up after"), "2h{Enter}");
  await waitFor(() => expect(sent.length).toBe(1));
  expect(sent[0]).toEqual({
    method: "PATCH", path: "/places/firmware", version: '"v1"', body: { limit: null, give_up_us: 7_200_000_000 },
  });
});

it("a seat is taken back with a reason only", async () => {
  const sent = settings("seats", "operator", "", { "POST /seats/compiler/take-back": {} });
  fireEvent.click(await screen.findByRole("button", { name: "Take compiler back from j-7" }));
  fireEvent.click(await screen.findByRole("button", { name: "Take seat back" }));
  expect((await screen.findByRole("alert")).textContent).toContain("Enter a reason");
  fireEvent.change(screen.getByLabelText(/^Reason/), { target: { value: "urgent release" } });
  fireEvent.click(await screen.findByRole("button", { name: "Take seat back" }));
  await waitFor(() => expect(sent.length).toBe(1));
  expect(sent[0]?.body).toEqual({ job: "j-7", reason: "urgent release" });
});

it("a supplier's removed setting is sent as null, and its stored secrets stay", async () => {
  const chandler = {
    name: "chandler", kind: "standin-cloud", settings: { url: "https://cloud.example", zone: "north" }, secrets: ["token"],
    machines: 2, pools: ["slipway"], created_at: AT, created_by: "admin", settings_version: "v4", quota: 10,
  };
  const sent = settings("suppliers", "admin", "", {
    "GET /suppliers": { items: [chandler] },
    "PATCH /suppliers/chandler": chandler,
  });
  fireEvent.click(await screen.findByRole("button", { name: "Change the supplier chandler" }));
  fireEvent.change(await screen.findByLabelText("Settings"), { target: { value: "url=https://cloud.example" } });
  fireEvent.change(screen.getByLabelText("Quota"), { target: { value: "12" } });
  fireEvent.click(await screen.findByRole("button", { name: "Change supplier" }));
  await waitFor(() => expect(sent.length).toBe(1));
  expect(sent[0]).toEqual({
    method: "PATCH", path: "/suppliers/chandler", version: '"v4"',
    body: { settings: { url: "https://cloud.example", zone: null }, quota: 12 },
  });
});

it("thresholds are changed one by one, and only read by a viewer", async () => {
  const sent = settings("alerts", "operator", "", { "PATCH /alerts/thresholds": thresholds });
  fireEvent.change(await screen.findByLabelText("Idle runners"), { target: { value: "3d" } });
  fireEvent.click(await screen.findByRole("button", { name: "Change thresholds" }));
  await waitFor(() => expect(sent.length).toBe(1));
  expect(sent[0]).toMatchObject({ body: { idle_us: 259_200_000_000 }, version: '"v3"' });
  cleanup();
  settings("alerts", "viewer", "");
  expect(await screen.findByText("A supplier fails")).toBeTruthy();
  expect(screen.queryByRole("button", { name: "Change thresholds" })).toBeNull();
});
