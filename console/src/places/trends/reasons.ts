// What jobs wait for, in the order in which it is stacked: what passes by itself below, what needs a person above.
import type { Reason } from "../../api/client";

export const REASONS: { reason: Reason; tone: string; said: string }[] = [
  { reason: "all-busy", tone: "waitBusy", said: "all runners busy" },
  { reason: "machine-coming", tone: "waitComing", said: "a machine is coming" },
  { reason: "supply-short", tone: "waitShort", said: "no further machine to be had" },
  { reason: "seat-taken", tone: "waitSeat", said: "a seat is taken" },
  { reason: "seat-reserved", tone: "waitReserved", said: "a seat is kept for another" },
  { reason: "team-limit", tone: "waitLimit", said: "its team is at its limit" },
  { reason: "handover", tone: "waitHandover", said: "on its way to a runner" },
  { reason: "paused", tone: "waitPaused", said: "its runners are paused" },
  { reason: "offline", tone: "waitOffline", said: "its runners are offline" },
  { reason: "out-of-reach", tone: "waitReach", said: "out of its project's reach" },
  { reason: "no-match", tone: "waitMatch", said: "nothing satisfies it" },
];

/** A colour token as CSS, for what is not styled by tokens. */
export const css = (token: string) => `var(--chakra-colors-${token.replace(/[A-Z]/g, (letter) => `-${letter.toLowerCase()}`)})`;
