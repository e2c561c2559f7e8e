// What jobs wait for, in the order in which it is stacked: what passes by itself below, what needs a person above.
import type { Reason } from "../../api/client";

export const REASONS: { reason: Reason; tone: string; said: string }[] = [
  { reason: "all-busy", tone: "waitBusy", said: "all runners busy" },
  { reason: "machine-coming", tone: "waitComing", said: "a machine is coming" },
  { reason: "supply-short", tone: "waitShort", said: "no machine can be added" },
  { reason: "seat-taken", tone: "waitSeat", said: "a seat is taken" },
  { reason: "seat-reserved", tone: "waitReserved", said: "the seat is reserved for another job" },
  { reason: "team-limit", tone: "waitLimit", said: "its team has reached its limit" },
  { reason: "handover", tone: "waitHandover", said: "being started on a runner" },
  { reason: "unknown", tone: "waitUnknown", said: "imported jobs: the reason is not recorded" },
  { reason: "paused", tone: "waitPaused", said: "its runners are paused" },
  { reason: "offline", tone: "waitOffline", said: "its runners are offline" },
  { reason: "out-of-reach", tone: "waitReach", said: "no access to the pool" },
  { reason: "needs-approval", tone: "waitApproval", said: "not approved in the pool yet" },
  { reason: "no-match", tone: "waitMatch", said: "no matching runner" },
];

/** A colour token as CSS, for what is not styled by tokens. */
export const css = (token: string) => `var(--chakra-colors-${token.replace(/[A-Z]/g, (letter) => `-${letter.toLowerCase()}`)})`;
