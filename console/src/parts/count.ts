// Counts, for people.

const grouped = new Intl.NumberFormat("en", { maximumFractionDigits: 1 });

/** A number with its thousands separated: 1,798. */
export const number = (count: number) => grouped.format(count);

/** A number with its noun: 1 job, 1,798 jobs. */
export const counted = (count: number, one: string, many = `${one}s`) => `${number(count)} ${count === 1 ? one : many}`;
