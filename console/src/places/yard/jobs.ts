// What a pool's jobs may reach and use, as it is typed: shared by the forms that add a pool and that change one.
import type { Pool, Schemas } from "../../api/client";
import type { Errors, Values } from "../../parts/form/state";
import { readCount, readSize, writeSize } from "../../parts/form/values";

type Policy = Pool["jobs"];

const LIMITS = ["job_memory", "job_processes", "job_cores", "job_disk"] as const;

/** What a form begins with: the pool's policy, or the defaults. */
export function jobValues(policy?: Policy): Values {
  const limits: Partial<Policy["limits"]> = policy?.limits ?? {};
  const size = (bytes: number | null | undefined) => (bytes == null ? "" : writeSize(bytes));
  return {
    isolation: policy?.isolation ?? "process",
    network: policy?.network === false ? "" : "yes",
    job_memory: size(limits.memory),
    job_processes: limits.processes == null ? "" : String(limits.processes),
    job_cores: limits.cores == null ? "" : String(limits.cores),
    job_disk: size(limits.disk),
  };
}

export function checkJobs(values: Values): Errors {
  const errors: Errors = {};
  for (const name of LIMITS) {
    const text = values[name]?.trim();
    if (!text) continue;
    const isSize = name === "job_memory" || name === "job_disk";
    if (isSize && readSize(text) === undefined) errors[name] = "Enter a size, such as 4GiB.";
    if (!isSize && readCount(text) === undefined) errors[name] = "Enter a whole number.";
  }
  return errors;
}

/** What differs from what the form began with. */
export function jobChange(values: Values, before: Values): Partial<Schemas["JobPolicyChange"]> | undefined {
  const change: Partial<Schemas["JobPolicyChange"]> = {};
  const differs = (name: string) => (values[name] ?? "") !== (before[name] ?? "");
  const size = (name: string) => readSize(values[name] ?? "") ?? 0;
  const count = (name: string) => readCount(values[name] ?? "") ?? 0;
  if (differs("isolation")) change.isolation = values.isolation as Policy["isolation"];
  if (differs("network")) change.network = values.network === "yes";
  if (differs("job_memory")) change.memory = size("job_memory");
  if (differs("job_processes")) change.processes = count("job_processes");
  if (differs("job_cores")) change.cores = count("job_cores");
  if (differs("job_disk")) change.disk = size("job_disk");
  return Object.keys(change).length === 0 ? undefined : change;
}

/** The limits in words. */
export function writeLimits({ memory, processes, cores, disk }: Partial<Policy["limits"]>): string {
  const parts = [
    memory == null ? "" : `${writeSize(memory)} of memory`,
    processes == null ? "" : `${processes} processes`,
    cores == null ? "" : cores === 1 ? "1 core" : `${cores} cores`,
    disk == null ? "" : `${writeSize(disk)} of disk`,
  ];
  return parts.filter(Boolean).join(", ");
}
