// What the pages ask for. Each is made stale by the event stream; the intervals only repair what it missed.
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { get } from "./client";
import type { Job, JobLine, Page, Place, Pool, Queue, Runner, SignedIn, Skyline, Status, Why } from "./client";

const REPAIR = 20_000;

export const useWho = () =>
  useQuery({ queryKey: ["who"], queryFn: () => get<SignedIn>("/session"), retry: false, staleTime: 60_000 });

export const useStatus = () =>
  useQuery({ queryKey: ["status"], queryFn: ({ signal }) => get<Status>("/status", signal), refetchInterval: REPAIR });

export const useSkyline = () =>
  useQuery({ queryKey: ["skyline"], queryFn: ({ signal }) => get<Skyline>("/skyline", signal), refetchInterval: 5_000 });

export const useQueue = () =>
  useQuery({ queryKey: ["queue"], queryFn: ({ signal }) => get<Queue>("/queue", signal), refetchInterval: REPAIR });

export const usePools = () =>
  useQuery({ queryKey: ["pools"], queryFn: ({ signal }) => get<Page<Pool>>("/pools", signal), refetchInterval: REPAIR });

export const useRunners = () =>
  useQuery({
    queryKey: ["runners"],
    queryFn: ({ signal }) => get<Page<Runner>>("/runners", signal),
    refetchInterval: REPAIR,
  });

/** One runner, retired or not. */
export const useRunner = (name: string) =>
  useQuery({
    queryKey: ["runners", name],
    queryFn: ({ signal }) => get<Runner>(`/runners/${encodeURIComponent(name)}`, signal),
    refetchInterval: REPAIR,
  });

export const useProjects = () =>
  useQuery({ queryKey: ["projects"], queryFn: ({ signal }) => get<Page<Place>>("/projects", signal) });

export const useJobs = (state: string, after: string | null) =>
  useQuery({
    queryKey: ["jobs", state, after],
    queryFn: ({ signal }) => {
      const query = new URLSearchParams({ limit: "50" });
      if (state) query.set("state", state);
      if (after) query.set("after", after);
      return get<Page<JobLine>>(`/jobs?${query}`, signal);
    },
    placeholderData: keepPreviousData,
    refetchInterval: REPAIR,
  });

export const useJob = (name: string) =>
  useQuery({
    queryKey: ["job", name],
    queryFn: ({ signal }) => get<Job>(`/jobs/${encodeURIComponent(name)}`, signal),
    refetchInterval: REPAIR,
  });

export const useWhy = (name: string, waits: boolean) =>
  useQuery({
    queryKey: ["why", name],
    queryFn: ({ signal }) => get<Why>(`/jobs/${encodeURIComponent(name)}/why`, signal),
    enabled: waits,
    refetchInterval: REPAIR,
  });
