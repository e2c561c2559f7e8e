// Money, in millionths of the installation's currency.

/** With two decimals, or as many as it takes where it is less than a hundredth. */
export function money(millionths: number): string {
  if (millionths > 0 && millionths < 10_000) return (millionths / 1e6).toFixed(6).replace(/0+$/, "");
  return (Math.floor(millionths / 10_000) / 100).toFixed(2);
}
