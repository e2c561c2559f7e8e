// What is typed into fields, read as what the service takes.

const UNITS: Record<string, number> = { s: 1, m: 60, min: 60, h: 3600, d: 86_400 };

/** A length of time such as 90s, 20m, 1h 30m or 2d, in microseconds; none where it is not one. */
export function readTime(text: string): number | undefined {
  const parts = text.trim().toLowerCase().match(/\d+(?:\.\d+)?\s*(?:min|[smhd])/g);
  if (!parts || parts.join("").replace(/\s/g, "") !== text.trim().toLowerCase().replace(/\s/g, "")) return undefined;
  let seconds = 0;
  for (const part of parts) {
    const [, number = "", unit = ""] = /^([\d.]+)\s*(\w+)$/.exec(part) ?? [];
    seconds += Number(number) * (UNITS[unit] ?? Number.NaN);
  }
  return Number.isFinite(seconds) && seconds > 0 ? Math.round(seconds * 1e6) : undefined;
}

export const TIME_ERROR = "Enter a length of time, such as 90s, 20m, 2h or 3d.";

/** A length of time as it is typed: 1h 30m. */
export function writeTime(micros: number): string {
  let seconds = Math.round(micros / 1e6);
  const words: string[] = [];
  for (const [unit, length] of [["d", 86_400], ["h", 3600], ["m", 60], ["s", 1]] as const) {
    const count = Math.floor(seconds / length);
    if (count > 0) words.push(`${count}${unit}`);
    seconds -= count * length;
  }
  return words.join(" ") || "0s";
}

/** A whole number that is not negative; none where it is not one. */
export function readCount(text: string): number | undefined {
  return /^\d{1,9}$/.test(text.trim()) ? Number(text) : undefined;
}

/** An amount of money, in millionths; none where it is not one. */
export function readMoney(text: string): number | undefined {
  return /^\d{1,9}(\.\d{1,6})?$/.test(text.trim()) ? Math.round(Number(text) * 1e6) : undefined;
}

/** NAME=VALUE, one on each line; or the first line that is not. */
export function readPairs(text: string): { pairs: Record<string, string> } | { wrong: string } {
  const pairs: Record<string, string> = {};
  for (const line of text.split("\n").map((line) => line.trim()).filter(Boolean)) {
    const at = line.indexOf("=");
    if (at < 1) return { wrong: `“${line}” has not the form NAME=VALUE.` };
    pairs[line.slice(0, at).trim()] = line.slice(at + 1).trim();
  }
  return { pairs };
}

/** The words of a list, separated by commas or blanks. */
export const readWords = (text: string) => text.split(/[\s,]+/).filter(Boolean);

const SIZES: [string, number][] = [
  ["TiB", 2 ** 40],
  ["GiB", 2 ** 30],
  ["MiB", 2 ** 20],
  ["KiB", 2 ** 10],
  ["TB", 1e12],
  ["GB", 1e9],
  ["MB", 1e6],
  ["KB", 1e3],
];

/** A size such as 4GiB, in bytes; none where it is not one. */
export function readSize(text: string): number | undefined {
  const [, number = "", unit = ""] = /^(\d+(?:\.\d+)?)\s*([a-z]+)$/i.exec(text.trim()) ?? [];
  const bytes = SIZES.find(([name]) => name.toLowerCase() === unit.toLowerCase())?.[1];
  return bytes === undefined ? undefined : Math.floor(Number(number) * bytes);
}

/** A size as it is typed, in the largest binary unit of which it is a multiple. */
export function writeSize(bytes: number): string {
  const [unit = "KiB", length = 1024] = SIZES.find(([, length]) => bytes % length === 0) ?? [];
  return `${Math.floor(bytes / length)}${unit}`;
}
