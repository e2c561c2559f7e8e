// What components show and do: lists, the answer line, a job's time, remedies, forms.
import { cleanup, fireEvent, screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, describe, expect, it, vi } from "vitest";
import type { Job, RemedyAction, Schemas } from "../src/api/client";
import { AnswerLine } from "../src/parts/answer";
import { List } from "../src/parts/list";
import { SearchBox } from "../src/parts/search";
import { Skyline } from "../src/parts/skyline";
import { Remedy } from "../src/parts/remedy";
import { TimeBar } from "../src/places/runs/TimeBar";
import { useAsked } from "../src/places/trends/asked";
import { AddMachine } from "../src/places/yard/AddMachine";
import { AddPool } from "../src/places/yard/AddPool";
import { page, service } from "./page";
import type { Sent } from "./page";

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

describe("a list", () => {
  const columns = [
    { head: "Name", cell: (row: { name: string }) => row.name },
    { head: "Length", cell: (row: { name: string }) => row.name.length, right: true },
  ];

  it("shows a row for each thing, under its columns' heads", () => {
    page(<List rows={[{ name: "fell-01" }, { name: "loft-1" }]} columns={columns} id={(row) => row.name} empty="none" />);
    expect(screen.getAllByRole("columnheader").map((head) => head.textContent)).toEqual(["Name", "Length"]);
    expect(screen.getAllByRole("row").map((row) => row.textContent)).toEqual(["NameLength", "fell-017", "loft-16"]);
  });

  it("says what is missing where there is nothing", () => {
    page(<List rows={[]} columns={columns} id={(row) => row.name} empty="No runners yet." />);
    expect(screen.getByText("No runners yet.")).toBeTruthy();
    expect(screen.queryByRole("table")).toBeNull();
  });
});

it("the answer line links the parts that name something", () => {
  const pieces = [
    { text: "6 jobs wait", link: { kind: "queue" } },
    { text: ". The longest is " },
    { text: "j-4812", link: { kind: "job", name: "j-4812" } },
  ] as Schemas["SentencePart"][];
  page(<AnswerLine pieces={pieces} />);
  expect(screen.getByTestId("answer").textContent).toBe("6 jobs wait. The longest is j-4812");
  const links = screen.getAllByRole("link").map((link) => link.getAttribute("href"));
  expect(links).toEqual(["/queue", "/jobs/j-4812"]);
});

it("a job's time adds its parts up by what they were", () => {
  const job = {
    state: "done",
    waiting: [],
    attempts: [
      {
        wait: [
          { reason: "all-busy", from: "2026-11-28T12:00:00Z", to: "2026-11-28T12:01:00Z" },
          { reason: "seat-taken", from: "2026-11-28T12:01:00Z", to: "2026-11-28T12:01:30Z" },
          { reason: "all-busy", from: "2026-11-28T12:01:30Z", to: "2026-11-28T12:02:00Z" },
        ],
        started_at: "2026-11-28T12:02:00Z",
        exited_at: "2026-11-28T12:12:00Z",
        finished_at: "2026-11-28T12:12:02Z",
      },
    ],
  } as unknown as Job;
  page(<TimeBar job={job} />);
  expect(screen.getByRole("img").getAttribute("aria-label")).toBe(
    "From submission: all-busy 1 min 30 s, seat-taken 30 s, commands 10 min, log upload 2.0 s",
  );
  expect(screen.getByTestId("time-bar").textContent).toContain("total 12 min 2 s");
});

describe("a remedy", () => {
  const action = {
    message: "Cancel 2 jobs",
    asks: "2 jobs of shore are cancelled.",
    method: "POST",
    path: "/jobs/bulk",
    body: { action: "cancel" },
    command: "pennine queue cancel",
  } as unknown as RemedyAction;

  it("asks before it does what cannot be undone, and says what happened", async () => {
    const sent = service(200, {});
    page(<Remedy action={action} />);
    await userEvent.click(screen.getByRole("button", { name: "Cancel 2 jobs …" }));
    expect(screen.getByRole("alertdialog").textContent).toContain("2 jobs of shore are cancelled.");
    expect(sent).toEqual([]);
    await userEvent.click(screen.getByRole("button", { name: "Cancel 2 jobs" }));
    expect((await screen.findByRole("status")).textContent).toBe("Done: Cancel 2 jobs");
    expect(sent).toEqual([{ method: "POST", path: "/api/v1/jobs/bulk", body: { action: "cancel" } }]);
  });

  it("does nothing when it is left, and shows a refusal with what to do", async () => {
    const sent = service(409, { detail: "they are over", remedy: "look again" });
    page(<Remedy action={action} />);
    await userEvent.click(screen.getByRole("button", { name: "Cancel 2 jobs …" }));
    await userEvent.click(screen.getByRole("button", { name: "Cancel" }));
    expect(sent).toEqual([]);
    await userEvent.click(screen.getByRole("button", { name: "Cancel 2 jobs …" }));
    await userEvent.click(screen.getByRole("button", { name: "Cancel 2 jobs" }));
    const alert = await screen.findByRole("alert");
    expect(alert.textContent).toContain("they are over");
    expect(alert.textContent).toContain("look again");
  });
});

describe("the form for a pool", () => {
  const posts = (sent: Sent[]) => sent.filter(({ method }) => method === "POST");

  it("sends what was typed, with the keyboard alone, and closes", async () => {
    const sent = service(201, { name: "tank", items: [] });
    const close = vi.fn();
    page(<AddPool close={close} />);
    await waitFor(() => expect(document.activeElement?.getAttribute("name")).toBe("name"));
    await userEvent.keyboard("tank{Tab}wave tank{Tab}bench, shared{Enter}");
    await waitFor(() => expect(close).toHaveBeenCalled());
    expect(posts(sent)).toEqual([
      {
        method: "POST",
        path: "/api/v1/pools",
        body: { name: "tank", description: "wave tank", labels: ["bench", "shared"], open: true },
      },
    ]);
  });

  it("says at the field what is wrong before anything is sent, and leads there", async () => {
    const sent = service(201, { items: [] });
    page(<AddPool close={() => undefined} />);
    await userEvent.click(screen.getByRole("button", { name: "Add pool" }));
    const name = screen.getByLabelText(/^Name/) as HTMLInputElement;
    expect(document.activeElement).toBe(name);
    expect(name.getAttribute("aria-invalid")).toBe("true");
    expect(screen.getByRole("alert").textContent).toBe("Enter a name of letters, digits, - and _.");
    await userEvent.type(name, "tank");
    expect(screen.queryByRole("alert")).toBeNull();
    expect(posts(sent)).toEqual([]);
  });

  it("keeps what was typed when it is refused, and says at the field what to do", async () => {
    service(409, { detail: "a pool tank already exists", field: "name", remedy: "choose another name" });
    const close = vi.fn();
    page(<AddPool close={close} />);
    const name = screen.getByLabelText(/^Name/) as HTMLInputElement;
    fireEvent.change(name, { target: { value: "tank" } });
    await userEvent.click(screen.getByRole("button", { name: "Add pool" }));
    const alert = await screen.findByRole("alert");
    expect(alert.textContent).toBe("a pool tank already exists. choose another name");
    expect(alert.closest("[data-field]")?.getAttribute("data-field")).toBe("name");
    expect(name.value).toBe("tank");
    expect(close).not.toHaveBeenCalled();
  });

  it("Escape closes it", async () => {
    service(200, { items: [] });
    const close = vi.fn();
    page(<AddPool close={close} />);
    await screen.findByRole("dialog");
    await userEvent.keyboard("{Escape}");
    await waitFor(() => expect(close).toHaveBeenCalled());
  });
});

it("opening the form for a machine makes no ticket; its button makes one", async () => {
  const sent = service(201, {
    name: "t-7", runner: "0001", install: "curl … | sh -s", command: "pennine-runner join --ticket x", expires_at: "2126-11-29T10:00:00Z", items: [],
  });
  page(<AddMachine pool="staithe" close={() => undefined} />);
  await screen.findByRole("dialog");
  expect(sent).toEqual([]);
  await userEvent.click(screen.getByRole("button", { name: "Create ticket" }));
  expect((await screen.findByTestId("join-command")).textContent).toBe("curl … | sh -s --work");
  expect(sent[0]).toMatchObject({ method: "POST", path: "/api/v1/pools/staithe/tickets", body: { uses: 1, lifetime_us: 3_600e6 } });
  await userEvent.click(screen.getByRole("button", { name: "Revoke ticket" }));
  await waitFor(() => expect(sent.at(-1)).toMatchObject({ method: "POST", path: "/api/v1/tickets/t-7/revoke" }));
});

describe("the skyline", () => {
  const step = (ago: number, waiting: number) => ({ ago_us: ago * 60e6, waiting, executing: 2, idle: 1, coming: 0 });
  const steps = [step(60, 0), step(30, 1_500), step(0, 3)];

  it("says what it shows, and the values where the keyboard leads", async () => {
    page(<Skyline steps={steps as never} windowUs={3_600e6} height={48} />);
    const skyline = screen.getByTestId("skyline");
    expect(skyline.getAttribute("aria-label")).toContain("Last hour: now 3 jobs wait, 2 executing, 1 slot idle, 0 coming; at most 1,500 waited.");
    expect(screen.getByText("30 min ago")).toBeTruthy();
    skyline.focus();
    await userEvent.keyboard("{Home}");
    expect(screen.getByTestId("cursor").textContent).toBe("1 h ago: 0 waiting, 2 executing, 1 idle, 0 coming");
    await userEvent.keyboard("{End}{ArrowLeft}");
    expect(screen.getByTestId("cursor").textContent).toBe("30 min ago: 1,500 waiting, 2 executing, 1 idle, 0 coming");
    await userEvent.keyboard("{Escape}");
    expect(screen.getByTestId("cursor").textContent).toBe("");
  });
});

it("what is searched for stands in the address, and Escape empties it", async () => {
  page(<SearchBox label="Search jobs" placeholder="" drop={["after"]} />, "/runs?state=done&after=j-9");
  const box = screen.getByRole("searchbox", { name: "Search jobs" });
  await userEvent.type(box, "buoy");
  await waitFor(() => expect(screen.getByTestId("address").textContent).toBe("/runs?state=done&search=buoy"));
  await userEvent.keyboard("{Escape}");
  await waitFor(() => expect(screen.getByTestId("address").textContent).toBe("/runs?state=done"));
});

describe("what trends are asked for", () => {
  function Asked() {
    const asked = useAsked();
    return (
      <>
        <p data-testid="asked">{`${asked.window} by ${asked.by}: ${asked.base}`}</p>
        <button onClick={() => asked.set({ window: "6h", pool: null })}>change</button>
      </>
    );
  }

  it("stands in the address, with what sums are kept by", async () => {
    page(<Asked />, "/trends?window=7d&pool=slipway&by=team");
    expect(screen.getByTestId("asked").textContent).toBe("7d by team: last_us=604800000000&pool=slipway");
    await userEvent.click(screen.getByRole("button", { name: "change" }));
    expect(screen.getByTestId("address").textContent).toBe("/trends?window=6h&by=team");
    expect(screen.getByTestId("asked").textContent).toBe("6h by team: last_us=21600000000");
  });

  it("falls back to what there is where the address says something else", () => {
    page(<Asked />, "/trends?window=tomorrow&runner=fell-01&by=pool");
    expect(screen.getByTestId("asked").textContent).toBe("14d by null: last_us=1209600000000&runner=fell-01");
  });
});
