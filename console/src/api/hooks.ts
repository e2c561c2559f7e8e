// What the pages ask for. Each is made stale by the event stream; the intervals only repair what it missed.
import { keepPreviousData, useQueries, useQuery } from "@tanstack/react-query";
import { useRef } from "react";
import { get } from "./client";
import type { Alert, BulkProgress, CapacityDecision, Checkup, Comparison, Job, JobLine, JobSizing, Machine, Maintenance, NextJob, Page, Place, Pool, Queue, Relief, Run, RunLine, Runner, RunnerTime, Schemas, Seat, SignedIn, Skyline, Status, Supplier, Target, Trends, LongestWait, WeekPattern, Why, YardFile } from "./client";

const REPAIR = 20_000;

export const useWho = () =>
  useQuery({ queryKey: ["who"], queryFn: () => get<SignedIn>("/session"), retry: false, staleTime: 60_000 });

export const useStatus = () =>
  useQuery({ queryKey: ["status"], queryFn: ({ signal }) => get<Status>("/status", signal), refetchInterval: REPAIR });

export const useSkyline = () =>
  useQuery({ queryKey: ["skyline"], queryFn: ({ signal }) => get<Skyline>("/skyline", signal), refetchInterval: 5_000 });

/** Which part of the queue: an overview of all of it without a reason, else the strands of one, page by page. */
export type QueueFilter = { reason?: string; cause?: string; team?: string; project?: string; after?: string };

export const useQueue = (filter: QueueFilter) =>
  useQuery({
    queryKey: ["queue", filter],
    queryFn: ({ signal }) => {
      const query = new URLSearchParams();
      for (const [name, value] of Object.entries(filter)) if (value !== undefined) query.set(name, value);
      return get<Queue>(`/queue?${query}`, signal);
    },
    placeholderData: keepPreviousData,
    refetchInterval: REPAIR,
  });

/** Actions on many jobs, the latest first; asked for each second while one runs. */
export const useBulkActions = () =>
  useQuery({
    queryKey: ["bulk-actions"],
    queryFn: ({ signal }) => get<Page<BulkProgress>>("/jobs/actions", signal),
    refetchInterval: ({ state }) => (state.data?.items.some((one) => one.state === "running") ? 1_000 : REPAIR),
  });

export const usePools = () =>
  useQuery({ queryKey: ["pools"], queryFn: ({ signal }) => get<Page<Pool>>("/pools", signal), refetchInterval: REPAIR });

/** A project with its pools. */
export const useProject = (name: string) =>
  useQuery({
    queryKey: ["projects", name],
    queryFn: ({ signal }) => get<Schemas["ProjectView"]>(`/projects/${encodeURIComponent(name)}`, signal),
    refetchInterval: REPAIR,
  });

export const usePool = (name: string) =>
  useQuery({
    queryKey: ["pools", name],
    queryFn: ({ signal }) => get<Pool>(`/pools/${encodeURIComponent(name)}`, signal),
    refetchInterval: REPAIR,
  });

/** A pool's demand over its capacity in the last minutes. */
export const useRelief = (name: string, minutes: number) =>
  useQuery({
    queryKey: ["relief", name, minutes],
    queryFn: ({ signal }) => get<Relief>(`/pools/${encodeURIComponent(name)}/relief?minutes=${minutes}`, signal),
    placeholderData: keepPreviousData,
    refetchInterval: 5_000,
  });

export const useMachines = (pool: string) =>
  useQuery({
    queryKey: ["machines", pool],
    queryFn: ({ signal }) => get<Page<Machine>>(`/machines?${new URLSearchParams({ pool })}`, signal),
    refetchInterval: REPAIR,
  });

export const useDecisions = (pool: string, search: string) =>
  useQuery({
    queryKey: ["decisions", pool, search],
    queryFn: ({ signal }) => {
      const query = new URLSearchParams({ pool });
      if (search) query.set("search", search);
      return get<Page<CapacityDecision>>(`/capacity/decisions?${query}`, signal);
    },
    placeholderData: keepPreviousData,
    refetchInterval: REPAIR,
  });

export const useSuppliers = () =>
  useQuery({ queryKey: ["suppliers"], queryFn: ({ signal }) => get<Page<Supplier>>("/suppliers", signal) });

export const useSeats = () =>
  useQuery({ queryKey: ["seats"], queryFn: ({ signal }) => get<Page<Seat>>("/seats", signal) });

export const useRunners = () =>
  useQuery({
    queryKey: ["runners"],
    queryFn: ({ signal }) => get<Page<Runner>>("/runners", signal),
    refetchInterval: REPAIR,
  });

/** The same without what is only wanted of one at a time: for a page of thousands. */
export const useYard = () =>
  useQuery({
    queryKey: ["runners", "brief"],
    queryFn: ({ signal }) => get<Page<Runner>>("/runners?brief=true", signal),
    refetchInterval: REPAIR,
  });

/** The ids of the runners that satisfy a requirement. */
export const useFittingRunners = (requirement: string) =>
  useQuery({
    queryKey: ["runners", "where", requirement],
    queryFn: async ({ signal }) => {
      const query = new URLSearchParams({ where: requirement, brief: "true" });
      const found = await get<Page<Runner>>(`/runners?${query}`, signal);
      return new Set(found.items.map((runner) => runner.id));
    },
    enabled: requirement !== "",
    placeholderData: keepPreviousData,
    retry: false,
  });

/** What runners did over the last hours, by their ids. Each group of ids, of at most 100, is one question. */
export function useRunnerTime(groups: string[][], hours: number): Map<string, RunnerTime> {
  const answers = useQueries({
    queries: groups.map((group) => group.join(",")).filter(Boolean).map((names) => ({
      queryKey: ["runner-time", hours, names],
      queryFn: ({ signal }: { signal: AbortSignal }) =>
        get<Page<RunnerTime>>(`/runner-time?${new URLSearchParams({ runners: names, hours: String(hours) })}`, signal),
      staleTime: 5_000,
      refetchInterval: REPAIR,
    })),
  });
  const known = useRef(new Map<string, RunnerTime>());
  for (const answer of answers) {
    for (const time of answer.data?.items ?? []) known.current.set(time.runner, time);
  }
  return known.current;
}

/** What the service can tell of a runner that does not do what it should. */
export const useCheckup = (name: string) =>
  useQuery({
    queryKey: ["runners", name, "doctor"],
    queryFn: ({ signal }) => get<Checkup>(`/runners/${encodeURIComponent(name)}/doctor`, signal),
    refetchInterval: REPAIR,
  });

/** The jobs that would be next on a runner. */
export const useNext = (name: string, wanted: boolean) =>
  useQuery({
    queryKey: ["queue", "next", name],
    queryFn: ({ signal }) => get<Page<NextJob>>(`/runners/${encodeURIComponent(name)}/next`, signal),
    enabled: wanted,
    refetchInterval: REPAIR,
  });

export const useMaintenance = () =>
  useQuery({
    queryKey: ["maintenance"],
    queryFn: ({ signal }) => get<Page<Maintenance>>("/maintenance", signal),
    refetchInterval: REPAIR,
  });

/** One runner, retired or not. */
export const useRunner = (name: string) =>
  useQuery({
    queryKey: ["runners", name],
    queryFn: ({ signal }) => get<Runner>(`/runners/${encodeURIComponent(name)}`, signal),
    refetchInterval: REPAIR,
  });

/** Open alerts. */
export const useAlerts = () =>
  useQuery({ queryKey: ["alerts"], queryFn: ({ signal }) => get<Page<Alert>>("/alerts", signal), refetchInterval: REPAIR });

/** Open and past alerts. */
export const useAllAlerts = () =>
  useQuery({
    queryKey: ["alerts", "all"],
    queryFn: ({ signal }) => get<Page<Alert>>("/alerts?all=true", signal),
    refetchInterval: REPAIR,
  });

/** The yard file that was applied last, where any was. */
export const useYardFile = () =>
  useQuery({ queryKey: ["yard-file"], queryFn: ({ signal }) => get<YardFile | null>("/yard-file", signal), staleTime: 60_000 });

export const useTargets = () =>
  useQuery({
    queryKey: ["targets"],
    queryFn: ({ signal }) => get<Page<Target>>("/targets", signal),
    refetchInterval: REPAIR,
  });

/** Figures of a window; the query says of what. */
export const useTrends = (query: string) =>
  useQuery({
    queryKey: ["trends", query],
    queryFn: ({ signal }) => get<Trends>(`/trends?${query}`, signal),
    placeholderData: keepPreviousData,
    refetchInterval: 3 * REPAIR,
  });

/** The same of each of several pools. */
export const usePoolTrends = (pools: string[], query: string) =>
  useQueries({
    queries: pools.map((pool) => ({
      queryKey: ["trends", query, "pool", pool],
      queryFn: ({ signal }: { signal: AbortSignal }) => get<Trends>(`/trends?${query}&${new URLSearchParams({ pool })}`, signal),
      placeholderData: keepPreviousData,
      refetchInterval: 3 * REPAIR,
    })),
  });

export const useWeek = (query: string) =>
  useQuery({
    queryKey: ["trends", "week", query],
    queryFn: ({ signal }) => get<WeekPattern>(`/trends/week?${query}`, signal),
    placeholderData: keepPreviousData,
    refetchInterval: 3 * REPAIR,
  });

/** The waits behind a figure. */
export const useWaits = (query: string) =>
  useQuery({
    queryKey: ["trends", "waits", query],
    queryFn: ({ signal }) => get<Page<LongestWait>>(`/trends/waits?${query}`, signal),
    placeholderData: keepPreviousData,
    refetchInterval: 3 * REPAIR,
  });

export const useTeams = () =>
  useQuery({ queryKey: ["teams"], queryFn: ({ signal }) => get<Page<Place>>("/teams", signal) });

export const useProjects = () =>
  useQuery({ queryKey: ["projects"], queryFn: ({ signal }) => get<Page<Place>>("/projects", signal) });

export const useAccount = () =>
  useQuery({ queryKey: ["account"], queryFn: ({ signal }) => get<Schemas["Account"]>("/account", signal), refetchInterval: REPAIR });

/** The roles of groups of the sign-in provider, at the places where one manages access. */
export const useGroupGrants = () =>
  useQuery({ queryKey: ["groups"], queryFn: ({ signal }) => get<Page<Schemas["GroupGrant"]>>("/groups", signal), refetchInterval: REPAIR });

export const usePeople = () =>
  useQuery({ queryKey: ["people"], queryFn: ({ signal }) => get<Page<Schemas["Person"]>>("/people", signal), refetchInterval: REPAIR });

/** How one can sign in; asked for before anybody is signed in. */
export const useSignInOptions = () =>
  useQuery({ queryKey: ["sign-in-options"], queryFn: ({ signal }) => get<Schemas["SignInOptions"]>("/session/options", signal), retry: false });

export const useSecrets = () =>
  useQuery({ queryKey: ["secrets"], queryFn: ({ signal }) => get<Page<Schemas["Secret"]>>("/secrets", signal), refetchInterval: REPAIR });

export const useVariables = () =>
  useQuery({ queryKey: ["variables"], queryFn: ({ signal }) => get<Page<Schemas["Variable"]>>("/variables", signal), refetchInterval: REPAIR });

/** Which entries of the audit log: by whom, of what, of which kind, how far back. */
export type AuditFilter = { by?: string; of?: string; what?: string; lastUs: number; cursor?: string };

export const useAudit = ({ by, of, what, lastUs, cursor }: AuditFilter) =>
  useQuery({
    queryKey: ["audit", by, of, what, lastUs, cursor],
    queryFn: ({ signal }) => {
      const query = new URLSearchParams({ last_us: String(lastUs) });
      for (const [name, value] of Object.entries({ by, of, what, cursor })) if (value) query.set(name, value);
      return get<Page<Schemas["AuditEntry"]>>(`/audit?${query}`, signal);
    },
    placeholderData: keepPreviousData,
    refetchInterval: REPAIR,
  });

export const useTokens = (search: string) =>
  useQuery({
    queryKey: ["tokens", search],
    queryFn: ({ signal }) => get<Page<Schemas["Token"]>>(`/tokens?${new URLSearchParams({ search })}`, signal),
    placeholderData: keepPreviousData,
    refetchInterval: REPAIR,
  });

export const useThresholds = () =>
  useQuery({ queryKey: ["thresholds"], queryFn: ({ signal }) => get<Schemas["AlertThresholds"]>("/alerts/thresholds", signal) });

/** Who is sent alerts. */
export const useSubscribers = () =>
  useQuery({
    queryKey: ["subscribers"],
    queryFn: ({ signal }) => get<Page<Schemas["Listener"]>>("/listeners", signal),
    refetchInterval: REPAIR,
  });

/** Which entries of a list: what is empty does not count. */
const query = (of: Record<string, string | undefined>) =>
  new URLSearchParams(Object.entries({ limit: "50", ...of }).flatMap(([name, value]) => (value ? [[name, value]] : [])));

type Listed = { project: string; search: string; after: string | undefined };

export const useJobs = (of: Listed & { state: string }) =>
  useQuery({
    queryKey: ["jobs", of],
    queryFn: ({ signal }) => get<Page<JobLine>>(`/jobs?${query(of)}`, signal),
    placeholderData: keepPreviousData,
    refetchInterval: REPAIR,
  });

export const useRuns = (of: Listed) =>
  useQuery({
    queryKey: ["runs", of],
    queryFn: ({ signal }) => get<Page<RunLine>>(`/runs?${query(of)}`, signal),
    placeholderData: keepPreviousData,
    refetchInterval: REPAIR,
  });

export const useRun = (name: string) =>
  useQuery({
    queryKey: ["run", name],
    queryFn: ({ signal }) => get<Run>(`/runs/${encodeURIComponent(name)}`, signal),
    refetchInterval: REPAIR,
  });

export const useJob = (name: string) =>
  useQuery({
    queryKey: ["job", name],
    queryFn: ({ signal }) => get<Job>(`/jobs/${encodeURIComponent(name)}`, signal),
    refetchInterval: REPAIR,
  });

/** A job that is done beside the median of earlier ones like it. */
export const useComparison = (name: string, wanted: boolean) =>
  useQuery({
    queryKey: ["comparison", name],
    queryFn: ({ signal }) => get<Comparison>(`/jobs/${encodeURIComponent(name)}/comparison`, signal),
    enabled: wanted,
    retry: false,
  });

/** What the last attempts of a job used, and what follows for its machine. */
export const useSizing = (name: string, wanted: boolean) =>
  useQuery({
    queryKey: ["sizing", name],
    queryFn: ({ signal }) => get<JobSizing>(`/jobs/${encodeURIComponent(name)}/sizing`, signal),
    enabled: wanted,
  });

export const useWhy = (name: string, waits: boolean) =>
  useQuery({
    queryKey: ["why", name],
    queryFn: ({ signal }) => get<Why>(`/jobs/${encodeURIComponent(name)}/why`, signal),
    enabled: waits,
    refetchInterval: REPAIR,
  });
