// Secrets: set for a place or a pool, never shown again.
import { cleanup, fireEvent, screen, waitFor } from "@testing-library/react";
import { afterEach, expect, it, vi } from "vitest";
import { Route, Routes } from "react-router";
import { listed } from "../src/places/settings/Secrets";
import Settings from "../src/places/settings/Settings";
import { answers, page } from "./page";
import type { Sent } from "./page";

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

const AT = "2026-11-30T09:00:00Z";
const key = { place: "shore", name: "TIDE_KEY", version: 3, pools: ["slipway"], set_at: AT, set_by: "admin", used_at: AT };
const licence = { place: "", pool: "boathouse", name: "LICENCE", version: 1, pools: [], reference: "kv/licence", set_at: AT, set_by: "admin" };
const team = { id: "1", name: "shore", path: "shore", kind: "team", created_at: AT, weight: 1, held: 0, settings_version: "v1" };

function settings(grants: { role: string; place: string }[], more: Record<string, unknown> = {}): Sent[] {
  const sent = answers({
    "GET /session": { name: "ola", full_name: "Ola Brekke", is_person: true, grants, installation: "Skerry", version: "0" },
    "GET /secrets": { items: [licence, key] },
    "GET /teams": { items: [team] },
    "GET /projects": { items: [] },
    "GET /pools": { items: [{ name: "boathouse", owner: "" }] },
    ...more,
  });
  page(
    <Routes>
      <Route path="/settings/:section?" element={<Settings />} />
    </Routes>,
    "/settings/secrets",
  );
  return sent;
}

const type = (label: string | RegExp, value: string) => fireEvent.change(screen.getByLabelText(label), { target: { value } });

it("secrets are shown without values, with whose they are and where they may be received", async () => {
  settings([{ role: "viewer", place: "" }]);
  const row = (await screen.findByText("TIDE_KEY")).closest("tr");
  expect(row?.textContent).toContain("shore3slipwayhere, encrypted");
  expect(screen.getByText("LICENCE").closest("tr")?.textContent).toContain("the pool boathouse1any pooloutside store");
  expect(screen.getByText("never")).toBeTruthy();
  expect(screen.queryByRole("button", { name: "Set secret" })).toBeNull();
  expect(screen.queryByRole("button", { name: /Replace|Remove/ })).toBeNull();
});

it("an administrator of a team sets and removes the team's secrets, not those of the pools of others", async () => {
  const sent = settings([{ role: "admin", place: "shore" }], { "POST /secrets": key, "POST /secrets/remove": null });
  expect(await screen.findByRole("button", { name: "Remove TIDE_KEY of shore" })).toBeTruthy();
  expect(screen.queryByRole("button", { name: "Remove LICENCE of the pool boathouse" })).toBeNull();
  fireEvent.click(await screen.findByRole("button", { name: "Replace TIDE_KEY of shore" }));
  fireEvent.click(await screen.findByRole("button", { name: "Set secret" }));
  expect(await screen.findByText("Enter the value.")).toBeTruthy();
  type("Value", "line one\nline two\n");
  fireEvent.click(await screen.findByRole("button", { name: "Set secret" }));
  await waitFor(() => expect(sent.at(-1)).toEqual({ method: "POST", path: "/secrets", body: { place: "shore", name: "TIDE_KEY", value: "line one\nline two\n", pools: ["slipway"] } }));
});

it("a secret can be a pool's", async () => {
  const sent = settings([{ role: "admin", place: "" }], { "POST /secrets": licence });
  fireEvent.click(await screen.findByRole("button", { name: "Set secret" }));
  fireEvent.change(await screen.findByLabelText("Place or pool"), { target: { value: "pool:boathouse" } });
  type(/^Name/, "LICENCE");
  type("Value", "open sesame");
  const buttons = await screen.findAllByRole("button", { name: "Set secret" });
  fireEvent.click(buttons[buttons.length - 1]!);
  await waitFor(() => expect(sent.at(-1)?.body).toEqual({ pool: "boathouse", name: "LICENCE", value: "open sesame", pools: [] }));
});

it("names in a list are separated by commas or spaces", () => {
  expect(listed(" slipway, staithe  boathouse ,")).toEqual(["slipway", "staithe", "boathouse"]);
});
