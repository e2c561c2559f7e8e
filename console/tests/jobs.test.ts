// What a pool's jobs may reach and use, as it is typed and sent.
import { describe, expect, it } from "vitest";
import { readSize, writeSize } from "../src/parts/form/values";
import { checkJobs, jobChange, jobValues, writeLimits } from "../src/places/yard/jobs";

describe("sizes", () => {
  it.each([
    ["4GiB", 4 * 2 ** 30],
    ["1.5 gib", 1.5 * 2 ** 30],
    ["500MB", 5e8],
    ["4", undefined],
    ["much", undefined],
    ["", undefined],
  ])("%s is read as %s bytes", (text, bytes) => expect(readSize(text)).toBe(bytes));

  it.each([4 * 2 ** 30, 1536 * 2 ** 20, 4e9])("%d bytes are written so that they are read as the same", (bytes) =>
    expect(readSize(writeSize(bytes))).toBe(bytes));
});

describe("the policy of a pool's jobs", () => {
  const policy = { isolation: "sandbox", network: false, limits: { memory: 2 ** 30, processes: 512 } } as never;

  it("is shown as it was set, and unchanged sends nothing", () => {
    const values = jobValues(policy);
    expect(values).toMatchObject({ isolation: "sandbox", network: "", job_memory: "1GiB", job_processes: "512", job_disk: "" });
    expect(jobChange(values, values)).toBeUndefined();
  });

  it("sends only what differs, and 0 for a limit that was emptied", () => {
    const before = jobValues(policy);
    const after = { ...before, isolation: "process", job_memory: "", job_cores: "2" };
    expect(jobChange(after, before)).toEqual({ isolation: "process", memory: 0, cores: 2 });
  });

  it("names the field that is wrong", () => {
    const errors = checkJobs({ ...jobValues(), job_memory: "lots", job_cores: "2.5", job_disk: "20GiB" });
    expect(errors).toEqual({ job_memory: "Enter a size, such as 4GiB.", job_cores: "Enter a whole number." });
  });

  it("says its limits in words", () => {
    expect(writeLimits({ memory: 2 ** 30, cores: 1 })).toBe("1GiB of memory, 1 core");
    expect(writeLimits({})).toBe("");
  });
});
