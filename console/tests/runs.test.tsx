// Runs: the list, a run's page with its graph, and where its jobs are drawn.
import { cleanup, fireEvent, screen, waitFor } from "@testing-library/react";
import { afterEach, expect, it, vi } from "vitest";
import { Route, Routes } from "react-router";
import type { Job, RunJob } from "../src/api/client";
import { Sizing, commandLengths } from "../src/places/runs/JobPage";
import RunPage, { runLead } from "../src/places/runs/RunPage";
import Runs from "../src/places/runs/Runs";
import { layered } from "../src/places/runs/layers";
import { answers, page } from "./page";

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

const AT = "2026-12-01T09:00:00Z";
const admin = { name: "admin", is_person: false, grants: [{ role: "admin", place: "" }], installation: "Skerry", version: "0" };
const counts = { held: 0, pending: 0, executing: 0, success: 0, failure: 0, cancellation: 0, skip: 0 };

function job(name: string, title: string, step: number, after: string[], more: Record<string, unknown> = {}): RunJob {
  const needs = after.map((one) => ({ job: one, title: one, success: true }));
  const line = { id: name, name, title, project: "firmware/buoy", where: "linux", state: "done", result: "success", created_at: AT, wait_us: 0, ...more };
  return { job: line, step, after: needs, needs_release: false, ...more } as RunJob;
}

const graph = [
  job("j-1", "build (gcc)", 1, []),
  job("j-2", "build (clang)", 1, []),
  job("j-3", "package", 2, ["j-1", "j-2"]),
  job("j-4", "release", 3, ["j-3"], { state: "held", result: null, needs_release: true, held_for: "waits for a person to release it" }),
];
const line = { id: "r", name: "run-7", title: "spring", project: "firmware/buoy", branch: "main", has_sheet: true, state: "held", created_at: AT, created_by: "mira", jobs: { ...counts, held: 1, success: 3 } };
const run = { ...line, graph, values: { level: "3" }, critical_path: ["j-2", "j-3"], now: AT };

function show(path: string, more: Record<string, unknown> = {}) {
  const sent = answers({ "GET /session": admin, "GET /runs": { items: [line, { ...line, id: "s", name: "run-6", title: "alone", only_job: "j-9", has_sheet: false }] }, "GET /runs/run-7": run, ...more });
  page(
    <Routes>
      <Route path="/runs" element={<Runs />} />
      <Route path="/runs/:run" element={<RunPage />} />
    </Routes>,
    path,
  );
  return sent;
}

it("runs are listed with their jobs, and one that is a single job leads to it", async () => {
  show("/runs");
  expect((await screen.findByRole("link", { name: "run-7" })).getAttribute("href")).toBe("/runs/run-7");
  expect(screen.getByRole("link", { name: "run-6" }).getAttribute("href")).toBe("/jobs/j-9");
  expect(screen.getByText("1 held, 3 succeeded")).toBeTruthy();
});

it("a run says what it waits for, and a held job is released", async () => {
  const sent = show("/runs/run-7", { "POST /jobs/j-4/release": run });
  expect(await screen.findByText("run-7 “spring” waits for a person to release “release”.")).toBeTruthy();
  expect(screen.getByText("waits for a person to release it")).toBeTruthy();
  fireEvent.click(screen.getByRole("button", { name: "Release release" }));
  await waitFor(() => expect(sent.at(-1)?.path).toBe("/jobs/j-4/release"));
});

it("a run that is done or overtaken says so", () => {
  const done = { ...run, state: "done", result: "failure", jobs: { ...counts, failure: 1, skip: 2 } } as Parameters<typeof runLead>[0];
  expect(runLead(done)).toBe("run-7 “spring” is done with failure: 1 failed, 2 skipped.");
  expect(runLead({ ...done, overtaken_by: "run-8" })).toContain("was overtaken by run-8");
});

it("jobs stand in columns by step, near what they wait for, and the critical path is last and strong", () => {
  const { nodes, edges, columns, rows } = layered(graph, ["j-2", "j-3"]);
  expect([columns, rows]).toEqual([3, 2]);
  expect(nodes.map(({ name, column, row }) => [name, column, row])).toEqual([
    ["j-1", 0, 0],
    ["j-2", 0, 1],
    ["j-3", 1, 0],
    ["j-4", 2, 0],
  ]);
  expect(edges.filter(({ isCritical }) => isCritical).map(({ from, to }) => [from.name, to.name])).toEqual([["j-2", "j-3"]]);
  expect(edges.at(-1)?.isCritical).toBe(true);
  const many = Array.from({ length: 2000 }, (_, n) => job(`j-${n}`, `part ${n}`, n < 1000 ? 1 : 2, n < 1000 ? [] : [`j-${n - 1000}`]));
  expect(layered(many, []).edges.length).toBe(1000);
});

it("a run tells its repository, its short revision and its overrides", async () => {
  const more = { repository: "https://forge.example/buoy.git", revision: "0f1e2d3c4b5a69788796a5b4c3d2e1f00f1e2d3c", overridden: ["build: where gcc >= 13", "all jobs: pool boathouse"] };
  show("/runs/run-7", { "GET /runs/run-7": { ...run, ...more } });
  expect(await screen.findByText("Overrides of this run: build: where gcc >= 13; all jobs: pool boathouse")).toBeTruthy();
  expect(screen.getByText("revision 0f1e2d3c4b5a").getAttribute("title")).toBe(more.revision);
  expect(screen.getByText("repository https://forge.example/buoy.git")).toBeTruthy();
});

it("a command ends where the next begins, and the last one with the attempt", () => {
  const attempt = { started_at: "2026-12-01T09:00:00Z", exited_at: "2026-12-01T09:00:10Z", phases: { commands_us: [1_000_000, 4_000_000] } } as unknown as Job["attempts"][number];
  expect(commandLengths(attempt)).toEqual([3_000_000, 6_000_000]);
  expect(commandLengths({ ...attempt, exited_at: null })).toEqual([3_000_000, undefined]);
  expect(commandLengths({ ...attempt, phases: undefined })).toEqual([]);
});

it("a job's machine size shows what the last attempts used, and the advice", () => {
  const usage = { ran_p50_us: 60e6, ran_p95_us: 62e6, millicores: 500, peak_memory: 1024, bytes_read: 5 * 1024 * 1024, bytes_written: null };
  const message = "It ran for 1 min (median), used 0.5 cores on average.";
  page(<Sizing sizing={{ job: "j-3", attempts: 7, message, usage, advice: ["A bigger machine would not make it faster."] }} />, "/");
  expect(screen.getByText("the last 7 that succeeded")).toBeTruthy();
  expect(screen.getByText("1 min (p50), 1 min 2 s (p95)")).toBeTruthy();
  expect(screen.getByText("5.0 MiB (p50)")).toBeTruthy();
  expect(screen.queryByText("storage written")).toBeNull();
  expect(screen.getByText("A bigger machine would not make it faster.")).toBeTruthy();
});

it("a job with too few attempts has no figures", () => {
  page(<Sizing sizing={{ job: "j-3", attempts: 2, message: "2 of 5 attempts are on record.", usage: null, advice: [] }} />, "/");
  expect(screen.getByText("2 of 5 attempts are on record.")).toBeTruthy();
  expect(screen.queryByText("attempts")).toBeNull();
});
