// A runner's settings are changed under the version that was read of them.
import { cleanup, fireEvent, screen, waitFor } from "@testing-library/react";
import { afterEach, expect, it, vi } from "vitest";
import type { Runner } from "../src/api/client";
import { SetOverride } from "../src/places/yard/Overrides";
import { page, service } from "./page";

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

const runner = { id: "0000", name: "fell-03", settings_version: "5d41402abc4b2a76", set: {} } as unknown as Runner;

it("a change that comes too late says so, shows what is so now, and keeps what was typed", async () => {
  const detail = "fell-03 has changed since you read it, last by ada at 2026-11-28 12:00 UTC";
  const sent = service(412, { detail, remedy: "read it again", version: "aaaaaaaaaaaaaaaa" });
  const { cache } = page(<SetOverride runner={runner} close={() => undefined} />);
  const readAgain = vi.spyOn(cache, "invalidateQueries");
  const field = screen.getByLabelText<HTMLInputElement>("Description");
  fireEvent.change(field, { target: { value: "by the window" } });
  fireEvent.click(await screen.findByRole("button", { name: "Set override" }));
  await waitFor(() => expect(screen.getByRole("alert").textContent).toContain(detail));
  const version = '"5d41402abc4b2a76"';
  expect(sent[0]).toMatchObject({ method: "PATCH", body: { description: "by the window" }, version });
  expect(readAgain).toHaveBeenCalledWith({ queryKey: ["runners"] });
  expect(field.value).toBe("by the window");
});
