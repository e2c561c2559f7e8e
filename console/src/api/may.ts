// What the signed-in token may do where. The service decides; this only leaves out what it would refuse.
import type { Schemas } from "./client";
import { useWho } from "./hooks";

type Role = Schemas["Role"];

const ORDER: Role[] = ["viewer", "submitter", "operator", "admin"];

/** Whether a place, given by its path, is another or lies below it; the root's path is empty. */
export const below = (above: string, path: string) => above === "" || path === above || path.startsWith(`${above}/`);

/** Says whether the token has a role at a place; without a place, whether it has the role anywhere. */
export function useMay(): (role: Role, place?: string) => boolean {
  const who = useWho().data;
  // Until that is known, the service is asked.
  if (who === undefined) return () => true;
  const own = who.place ?? "";
  return (role, place = own) => ORDER.indexOf(who.role) >= ORDER.indexOf(role) && below(own, place);
}

/** A place for people: its path, or all teams. */
export const placeName = (path: string | null | undefined) => path || "all teams";
