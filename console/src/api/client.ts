// Requests to the service that serves this page. Errors are the service's problems (RFC 9457) as exceptions.
import type { components } from "./schema";

export type Schemas = components["schemas"];
export type Status = Schemas["Status"];
export type JobLine = Schemas["JobLine"];
export type Comparison = Schemas["Comparison"];
export type JobSizing = Schemas["JobSizing"];
export type Job = Schemas["Job"];
export type Run = Schemas["Run"];
export type RunJob = Schemas["RunJob"];
export type RunLine = Schemas["RunLine"];
export type Attempt = Schemas["Attempt"];
export type Span = Schemas["Span"];
export type Why = Schemas["WaitExplanation"];
export type Queue = Schemas["Queue"];
export type QueueGroup = Schemas["QueueGroup"];
export type BulkProgress = Schemas["BulkProgress"];
export type BulkResult = Schemas["BulkResult"];
export type RemedyAction = Schemas["RemedyAction"];
export type Trial = Schemas["Trial"];
export type Pool = Schemas["Pool"];
export type ChangedPool = Schemas["ChangedPool"];
export type Relief = Schemas["Relief"];
export type Machine = Schemas["Machine"];
export type CapacityDecision = Schemas["CapacityDecision"];
export type Runner = Schemas["Runner"];
export type ChangedRunner = Schemas["ChangedRunner"];
export type RunnerTime = Schemas["RunnerTime"];
export type Checkup = Schemas["Checkup"];
export type NextJob = Schemas["NextJob"];
export type Maintenance = Schemas["Maintenance"];
export type Finding = Schemas["Finding"];
export type Place = Schemas["Place"];
export type MadeTicket = Schemas["MadeTicket"];
export type Supplier = Schemas["Supplier"];
export type Seat = Schemas["Seat"];
export type SignedIn = Schemas["SignedIn"];
export type Skyline = Schemas["Skyline"];
export type LogLines = Schemas["LogLines"];
export type Trends = Schemas["Trends"];
export type TrendFigures = Schemas["WindowFigures"];
export type WeekPattern = Schemas["WeekPattern"];
export type LongestWait = Schemas["LongestWait"];
export type YardFile = Schemas["YardFile"];
export type Alert = Schemas["Alert"];
export type Target = Schemas["Target"];
export type Reason = Schemas["Reason"];
export type ProblemBody = Schemas["Problem"];
export type Page<T> = { items: T[]; next?: string | null };

/** The address of something of the service, below wherever it is served. */
export function address(path: string): string {
  return new URL(`api/v1${path}`, document.baseURI).toString();
}

/** An error answer, or no answer at all (status 0). */
export class Problem extends Error {
  readonly status: number;
  readonly body: Partial<ProblemBody>;

  constructor(status: number, body: Partial<ProblemBody>) {
    super(body.detail ?? body.title ?? `status ${status}`);
    this.status = status;
    this.body = body;
  }
}

async function request<T>(path: string, init: RequestInit = {}): Promise<T> {
  let response: Response;
  try {
    response = await fetch(address(path), { credentials: "same-origin", ...init });
  } catch (error) {
    if (error instanceof DOMException && error.name === "AbortError") throw error;
    throw new Problem(0, { detail: "The service is not responding." });
  }
  if (!response.ok) {
    const body = (await response.json().catch(() => ({}))) as Partial<ProblemBody>;
    throw new Problem(response.status, body);
  }
  return response.status === 204 ? (undefined as T) : ((await response.json()) as T);
}

/** Sends a write. With the version that was read of what it changes, it is refused (412) where that is another by now. */
export function send<T>(method: string, path: string, body?: unknown, version?: string): Promise<T> {
  return request<T>(path, {
    method,
    headers: { "content-type": "application/json", ...(version ? { "if-match": `"${version}"` } : {}) },
    body: JSON.stringify(body ?? null),
  });
}

export const get = <T>(path: string, signal?: AbortSignal): Promise<T> => request<T>(path, { signal });
export const post = <T>(path: string, body?: unknown): Promise<T> => send<T>("POST", path, body);
export const patch = <T>(path: string, body?: unknown): Promise<T> => send<T>("PATCH", path, body);
export const put = <T>(path: string, body?: unknown): Promise<T> => send<T>("PUT", path, body);
export const remove = (path: string): Promise<void> => send<void>("DELETE", path);
