// People: how they sign in, set their passwords, and what an administrator does with their accounts.
import { cleanup, fireEvent, screen, waitFor, within } from "@testing-library/react";
import { afterEach, beforeEach, expect, it, vi } from "vitest";
import { Route, Routes } from "react-router";
import { SignIn } from "../src/app/SignIn";
import { Welcome } from "../src/app/Welcome";
import { grantsText } from "../src/api/may";
import { checkPassword } from "../src/parts/password";
import { detailText } from "../src/places/settings/Audit";
import Settings from "../src/places/settings/Settings";
import { answers, page, service } from "./page";
import type { Sent } from "./page";

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

beforeEach(() => {
  window.location.hash = "";
});

const AT = "2026-11-30T09:00:00Z";
const admin = { name: "admin", full_name: "Administrator", is_person: true, grants: [{ role: "admin", place: "" }], installation: "Skerry", version: "0" };
const ola = {
  name: "ola",
  full_name: "Ola Brekke",
  state: "active",
  grants: [
    { role: "viewer", place: "firmware" },
    { role: "operator", place: "shore" },
  ],
  has_second_factor: true,
  created_at: AT,
  created_by: "admin",
};
const team = { id: "1", name: "shore", path: "shore", kind: "team", created_at: AT, weight: 1, held: 0, settings_version: "v1" };
const session = { id: "s-1", is_this: true, created_at: AT, expires_at: "2099-01-01T00:00:00Z", user_agent: "this browser", last_used_at: AT, address: "192.0.2.7" };

function settings(section: string, more: Record<string, unknown> = {}): Sent[] {
  const sent = answers({
    "GET /session": admin,
    "GET /people": { items: [ola] },
    "GET /teams": { items: [team] },
    "GET /projects": { items: [] },
    "GET /groups": { items: [] },
    "GET /tokens": { items: [] },
    "GET /account": { person: { ...ola, name: "admin", full_name: "Administrator", has_second_factor: false }, has_password: true, recovery_codes: 0, sessions: [session, { ...session, id: "s-2", is_this: false, user_agent: "another browser" }] },
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

const type = (label: string | RegExp, value: string) => fireEvent.change(screen.getByLabelText(label), { target: { value } });

it("a code is asked for where the account has a second factor, and sent with name and password", async () => {
  const sent = service(401, { type: "https://pennine.example/problems/second-factor-needed", detail: "the account has a second factor" });
  page(<SignIn />);
  expect(screen.queryByLabelText("Code")).toBeNull();
  type("Name", "ola");
  type("Password", "slack water at noon");
  fireEvent.click(await screen.findByRole("button", { name: "Sign in" }));
  await screen.findByLabelText("Code");
  expect(sent.filter(({ method }) => method === "POST")).toEqual([{ method: "POST", path: "/api/v1/session", body: { name: "ola", password: "slack water at noon" } }]);
  type("Code", "123 456");
  fireEvent.click(await screen.findByRole("button", { name: "Sign in" }));
  await waitFor(() => expect(sent.at(-1)?.body).toEqual({ name: "ola", password: "slack water at noon", code: "123 456" }));
});

it("a wrong password is said at its field, and a token can be used instead", async () => {
  service(401, { detail: "the name, the password or the code is wrong", field: "password" });
  page(<SignIn />);
  fireEvent.click(await screen.findByRole("button", { name: "Sign in" }));
  expect(await screen.findByText("Enter your name.")).toBeTruthy();
  type("Name", "ola");
  type("Password", "wrong");
  fireEvent.click(await screen.findByRole("button", { name: "Sign in" }));
  expect((await screen.findAllByRole("alert")).map((one) => one.textContent).join()).toContain("the name, the password or the code is wrong");
  fireEvent.click(await screen.findByRole("button", { name: "Sign in with a token" }));
  expect(screen.getByLabelText("Token")).toBeTruthy();
});

it("a link's secret is read from the address and sent with the password that is typed twice", async () => {
  window.location.hash = "#pen-link-made-up";
  const owner = { name: "teo", full_name: "Teo Sandvik", installation: "Skerry", expires_at: AT, needs_code: false };
  const sent = answers({ "POST /session/link": owner, "POST /session/link/use": admin });
  page(<Welcome />, "/welcome");
  expect(await screen.findByText("Welcome to Skerry, Teo Sandvik")).toBeTruthy();
  type("Password", "slack water at noon");
  type("Password again", "slack water at nine");
  fireEvent.click(await screen.findByRole("button", { name: "Set password and sign in" }));
  expect(await screen.findByText("The two are different.")).toBeTruthy();
  type("Password again", "slack water at noon");
  fireEvent.click(await screen.findByRole("button", { name: "Set password and sign in" }));
  const body = { link: "pen-link-made-up", password: "slack water at noon" };
  await waitFor(() => expect(sent.filter(({ path }) => path === "/session/link/use")).toEqual([{ method: "POST", path: "/session/link/use", body }]));
});

it("a link that is no longer valid says what to do", async () => {
  service(410, { detail: "the link was used", remedy: "sign in with your password" });
  page(<Welcome />, "/welcome");
  expect((await screen.findByRole("alert")).textContent).toContain("the link was used");
  expect(screen.getByRole("button", { name: "Sign in" })).toBeTruthy();
});

it("a password is long enough and typed twice alike", () => {
  expect(checkPassword("new", "short", "short")["new"]).toBe("Enter 12 characters or more.");
  expect(checkPassword("new", "潮が満ちる前に帰ろうね今日は", "潮が満ちる前に帰ろうね今日は")).toEqual({ new: undefined, again: undefined });
  expect(checkPassword("new", "slack water at noon", "")["again"]).toBe("The two are different.");
});

it("people are shown with their roles, and a role is granted and revoked", async () => {
  const sent = settings("people", { "POST /people/ola/grants": ola, "POST /people/ola/grants/revoke": ola });
  expect(await screen.findByText("viewer of firmware, operator of shore")).toBeTruthy();
  fireEvent.click(await screen.findByRole("button", { name: "Change ola" }));
  const dialog = within(await screen.findByRole("dialog"));
  await waitFor(() => expect([...dialog.getByLabelText<HTMLSelectElement>("Place").options].map(({ value }) => value)).toEqual(["", "shore"]));
  fireEvent.change(dialog.getByLabelText("Role"), { target: { value: "admin" } });
  fireEvent.change(dialog.getByLabelText("Place"), { target: { value: "shore" } });
  fireEvent.click(dialog.getByRole("button", { name: "Grant role" }));
  await waitFor(() => expect(sent.at(-1)).toEqual({ method: "POST", path: "/people/ola/grants", body: { role: "admin", place: "shore" } }));
  fireEvent.click(dialog.getByRole("button", { name: "Revoke operator of shore" }));
  fireEvent.click(await screen.findByRole("button", { name: "Revoke role" }));
  await waitFor(() => expect(sent.at(-1)).toEqual({ method: "POST", path: "/people/ola/grants/revoke", body: { place: "shore" } }));
});

it("a permission check is answered with the role", async () => {
  const message = "Yes: ola has operator at shore, which includes manage-pool at shore.";
  settings("people", { "GET /people/ola/permission": { is_allowed: true, message } });
  fireEvent.click(await screen.findByRole("button", { name: "Change ola" }));
  fireEvent.click(await screen.findByRole("button", { name: "Check permission" }));
  expect(await screen.findByText(message)).toBeTruthy();
});

it("a new link is shown once and can remove a lost second factor", async () => {
  const made = { person: ola, link: "http://127.0.0.1:7117/welcome#pen-link-made-up", expires_at: AT };
  const sent = settings("people", { "POST /people/ola/link": made });
  fireEvent.click(await screen.findByRole("button", { name: "Change ola" }));
  // A second dialog that opens before the first has hidden the page would be hidden with the page.
  await waitFor(() => expect(screen.queryByRole("button", { name: "Change ola" })).toBeNull());
  fireEvent.click(await screen.findByRole("button", { name: "Make sign-in link …" }));
  fireEvent.click(await screen.findByLabelText("Remove the second factor, too"));
  fireEvent.click(await screen.findByRole("button", { name: "Make sign-in link" }));
  expect((await screen.findByTestId("secret")).textContent).toBe(made.link);
  expect(sent.at(-1)?.body).toEqual({ removes_second_factor: true });
});

it("a second factor is set up with the password, a code, and recovery codes that are shown once", async () => {
  const sent = settings("account", {
    "POST /account/second-factor": { secret: "JBSWY3DP", address: "otpauth://totp/Skerry:admin?secret=JBSWY3DP" },
    "POST /account/second-factor/confirm": { codes: ["abcd-efgh-jkmn-pqrs", "tuvw-xyz2-3456-789a"] },
  });
  fireEvent.click(await screen.findByRole("button", { name: "Add second factor" }));
  type("Password", "slack water at noon");
  fireEvent.click(await screen.findByRole("button", { name: "Continue" }));
  expect((await screen.findByTestId("totp-secret")).textContent).toBe("JBSWY3DP");
  type("Code", "12345");
  fireEvent.click(await screen.findByRole("button", { name: "Turn on second factor" }));
  expect(await screen.findByText("Enter six digits.")).toBeTruthy();
  type("Code", "123456");
  fireEvent.click(await screen.findByRole("button", { name: "Turn on second factor" }));
  expect((await screen.findByTestId("recovery-codes")).textContent).toContain("tuvw-xyz2-3456-789a");
  expect(sent.map(({ path }) => path)).toEqual(["/account/second-factor", "/account/second-factor/confirm"]);
});

it("another session is ended, and this one is named", async () => {
  const sent = settings("account", { "DELETE /account/sessions/s-2": null });
  expect(await screen.findByText("this session:")).toBeTruthy();
  expect(screen.getAllByRole("button", { name: /^End the session/ })).toHaveLength(1);
  fireEvent.click(await screen.findByRole("button", { name: "End the session of 192.0.2.7" }));
  fireEvent.click(await screen.findByRole("button", { name: "End session" }));
  await waitFor(() => expect(sent.at(-1)).toMatchObject({ method: "DELETE", path: "/account/sessions/s-2" }));
});

it("roles and details of entries are said in words", () => {
  expect(grantsText([])).toBe("no role");
  expect(grantsText([{ role: "admin", place: "" }])).toBe("admin of all teams");
  expect(detailText({ removes_second_factor: false, force: true, role: "viewer", labels: ["arm64"], until: null })).toBe('force, role viewer, labels ["arm64"]');
  expect(detailText(null)).toBe("");
});

it("the provider is offered where there is one, and why its sign-in failed is said", async () => {
  answers({ "GET /session/options": { installation: "Skerry", provider: "Skerry ID" } });
  page(<SignIn />, "/?sign_in=name-taken");
  const link = await screen.findByRole("link", { name: "Sign in with Skerry ID" });
  expect(link.getAttribute("href")).toMatch(/\/sign-in\/openid$/);
  expect(screen.getByRole("alert").textContent).toContain("Ask an administrator to set the account's subject.");
});

it("a person of the sign-in provider has no password to change, and sees the roles of groups", async () => {
  const person = { ...ola, grants: [{ role: "viewer", place: "shore" }], groups: ["tide-watch"], group_grants: [{ role: "operator", place: "shore/soundings" }] };
  settings("account", { "GET /account": { person, has_password: false, recovery_codes: 0, sessions: [session] } });
  expect(await screen.findByText("viewer of shore; operator of shore/soundings through your groups")).toBeTruthy();
  expect(screen.getByText("tide-watch")).toBeTruthy();
  expect(screen.getByText(/none: you sign in through the sign-in provider/)).toBeTruthy();
  expect(screen.queryByRole("button", { name: "Change password" })).toBeNull();
  expect(screen.queryByRole("button", { name: "Add second factor" })).toBeNull();
});

it("a variable is set for a team or a pool, and removed from its owner", async () => {
  const variable = { place: "shore", pool: "slipway", name: "CC", value: "gcc", set_at: AT, set_by: "ola" };
  const sent = settings("variables", {
    "GET /variables": { items: [variable] },
    "GET /pools": { items: [{ name: "slipway", owner: "shore" }] },
    "POST /variables": variable,
  });
  expect(await screen.findByText("the pool slipway")).toBeTruthy();
  fireEvent.click(screen.getByRole("button", { name: "Set variable" }));
  const dialog = within(await screen.findByRole("dialog"));
  const owner = dialog.getByLabelText("Place or pool");
  await waitFor(() => expect(within(owner).getAllByRole("option").map((one) => one.textContent)).toEqual(["all teams", "shore", "the pool slipway"]));
  fireEvent.change(owner, { target: { value: "pool:slipway" } });
  fireEvent.change(dialog.getByLabelText(/^Name/), { target: { value: "CXX" } });
  fireEvent.change(dialog.getByLabelText("Value"), { target: { value: "g++" } });
  fireEvent.click(dialog.getByRole("button", { name: "Set variable" }));
  await waitFor(() => expect(sent.at(-1)).toEqual({ method: "POST", path: "/variables", body: { pool: "slipway", name: "CXX", value: "g++" } }));
});

it("roles are shown by place, of people, groups and programs", async () => {
  const soundings = { ...team, id: "2", name: "soundings", path: "shore/soundings", kind: "project" };
  const nightly = { name: "nightly", role: "submitter", place: "shore/soundings", state: "valid", created_at: AT, created_by: "ola", renewed_at: AT };
  settings("people", {
    "GET /projects": { items: [soundings] },
    "GET /groups": { items: [{ group: "tide-watch", role: "operator", place: "shore", granted_at: AT, granted_by: "admin" }] },
    "GET /tokens": { items: [nightly, { ...nightly, name: "old", state: "revoked" }, { ...nightly, name: "ola/laptop", owner: "ola" }] },
  });
  await screen.findByRole("heading", { name: "Roles by place" });
  const row = async (name: string) => {
    const cells = (await screen.findAllByRole("cell", { name })).at(-1)?.closest("tr");
    return [...(cells?.querySelectorAll("td") ?? [])].map((cell) => cell.textContent);
  };
  await screen.findByText("group tide-watch", { exact: false });
  expect((await row("shore")).join("|")).toContain("group tide-watch");
  expect(await row("soundings")).toContain("token nightly");
  expect(screen.queryByText(/ola\/laptop|old/)).toBeNull();
});

it("a group of the provider is granted a role at a place, and loses it again", async () => {
  const grant = { group: "shore-engineers", role: "operator", place: "shore", granted_at: AT, granted_by: "admin" };
  const sent = settings("people", {
    "GET /session/options": { provider: "Harbour sign-in" },
    "GET /groups": { items: [grant] },
    "POST /groups": grant,
    "POST /groups/revoke": grant,
  });
  fireEvent.click(await screen.findByRole("button", { name: "Grant group role" }));
  const dialog = within(await screen.findByRole("dialog"));
  fireEvent.click(dialog.getByRole("button", { name: "Grant role" }));
  expect(await dialog.findByText("Enter the group's name.")).toBeTruthy();
  fireEvent.change(dialog.getByLabelText(/^Group/), { target: { value: " bench-crew " } });
  fireEvent.change(dialog.getByLabelText("Place"), { target: { value: "shore" } });
  fireEvent.click(dialog.getByRole("button", { name: "Grant role" }));
  await waitFor(() =>
    expect(sent.filter(({ path }) => path === "/groups").at(-1)?.body).toEqual({ group: "bench-crew", role: "viewer", place: "shore" }),
  );
  fireEvent.click(await screen.findByRole("button", { name: "Revoke operator of shore from the group shore-engineers" }));
  fireEvent.click(await screen.findByRole("button", { name: "Revoke role" }));
  await waitFor(() => expect(sent.find(({ path }) => path.endsWith("/groups/revoke"))?.body).toEqual({ group: "shore-engineers", place: "shore" }));
});

it("a token is changed without its secret, and only what was typed is sent", async () => {
  const token = { name: "provisioning", role: "operator", place: "shore", state: "valid", created_at: AT, created_by: "admin", renewed_at: AT, expires_at: "2026-12-10T09:00:00Z" };
  const sent = settings("tokens", { "GET /tokens": { items: [token] }, "PATCH /tokens/provisioning": token });
  fireEvent.click(await screen.findByRole("button", { name: "Change the token provisioning" }));
  const dialog = within(await screen.findByRole("dialog"));
  expect(dialog.getByLabelText<HTMLInputElement>(/^Valid for/).value).toBe("10d");
  fireEvent.change(dialog.getByLabelText("Limited to"), { target: { value: "runner-tickets" } });
  fireEvent.click(dialog.getByRole("button", { name: "Change token" }));
  const changes = () => sent.filter(({ method }) => method === "PATCH").map(({ body }) => body);
  await waitFor(() => expect(changes()).toEqual([{ role: "operator", place: "shore", purpose: "runner-tickets" }]));
});
