// A project's page: its pools by grant, and whom to ask for the others.
import { cleanup, screen } from "@testing-library/react";
import { afterEach, expect, it, vi } from "vitest";
import { Route, Routes } from "react-router";
import type { Schemas } from "../src/api/client";
import ProjectPage, { accessText, leadText } from "../src/places/projects/ProjectPage";
import { answers, page } from "./page";

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

const project = { id: "1", name: "buoy", path: "firmware/buoy", kind: "project", created_at: "2026-11-30T09:00:00Z", weight: 1, held: 2, limit: 4 };
const pool = { pool: "staithe", description: "", access: "of-owner", by: "", labels: ["linux"], machines: ["linux", "2 cores"], slots: 4, free: 1, waiting: 3 };
const view = {
  project,
  waiting: 3,
  pools: [pool, { ...pool, pool: "tank", access: "needs-approval", slots: 1, free: 1, ask: "an operator of the root: ola" }],
  out_of_reach: [{ pool: "press", description: "prints", labels: ["plotter"], ask: "an operator of chartroom" }],
} as unknown as Schemas["ProjectView"];

it("the pools are listed with their grants, and whom to ask for the others", async () => {
  answers({ "GET /projects/firmware%2Fbuoy": view });
  page(
    <Routes>
      <Route path="/projects/:project" element={<ProjectPage />} />
    </Routes>,
    "/projects/firmware%2Fbuoy",
  );
  expect(await screen.findByText("firmware/buoy may use 1 pool, with 1 of 4 slots free. 3 jobs wait.")).toBeTruthy();
  expect(screen.getByText("staithe").closest("tr")?.textContent).toBe("staithefor all teams1 of 43linuxlinux, 2 cores");
  expect(screen.getByText("For tank, ask an operator of the root: ola.")).toBeTruthy();
  expect(screen.getByText("press").closest("tr")?.textContent).toContain("an operator of chartroom");
  expect(screen.getByText("2 slots used of at most 4")).toBeTruthy();
});

it("how a project may use a pool is said in words", () => {
  expect(accessText({ access: "of-owner", by: "shore" })).toBe("owned by shore");
  expect(accessText({ access: "widened", by: "firmware" })).toBe("widened to firmware");
  expect(accessText({ access: "narrowed", by: "firmware/buoy" })).toBe("narrowed to firmware/buoy");
  expect(leadText({ ...view, pools: [], waiting: 1 })).toBe("firmware/buoy may use no pools. 1 job waits.");
});
