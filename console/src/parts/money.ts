// Money, in millionths of the installation's currency, for people: two decimals and the currency.
import { useWho } from "../api/hooks";

const amounts = new Intl.NumberFormat("en", { minimumFractionDigits: 2, maximumFractionDigits: 2 });

/** An amount with its currency. What is less than a hundredth is named so. */
export function money(millionths: number, currency: string): string {
  const unit = currency ? ` ${currency}` : "";
  if (millionths > 0 && millionths < 10_000) return `under 0.01${unit}`;
  return `${amounts.format(Math.floor(millionths / 10_000) / 100)}${unit}`;
}

/** How amounts are written in this installation. */
export function useMoney(): (millionths: number) => string {
  const currency = useWho().data?.currency ?? "";
  return (millionths) => money(millionths, currency);
}
