// What the person or token that is signed in may do where. The service decides; this only leaves out what it would refuse.
import type { Schemas } from "./client";
import { useWho } from "./hooks";

export type Role = Schemas["Role"];

const ORDER: Role[] = ["viewer", "submitter", "operator", "admin"];

/** Whether a place, given by its path, is another or lies below it; the root's path is empty. */
export const below = (above: string, path: string) => above === "" || path === above || path.startsWith(`${above}/`);

/** Says whether they have a role at a place; without a place, whether it has the role anywhere. */
export function useMay(): (role: Role, place?: string) => boolean {
  const who = useWho().data;
  // Until that is known, the service is asked.
  if (who === undefined) return () => true;
  return (role, place) =>
    who.grants.some((own) => ORDER.indexOf(own.role) >= ORDER.indexOf(role) && (place === undefined || below(own.place, place)));
}

/** Roles with their places, for people: "submitter of firmware, viewer of all teams". */
export const grantsText = (grants: Schemas["Grant"][]) =>
  grants.length === 0 ? "no role" : grants.map(({ role, place }) => `${role} of ${placeName(place)}`).join(", ");

/** A place for people: its path, or all teams. */
export const placeName = (path: string | null | undefined) => path || "all teams";
