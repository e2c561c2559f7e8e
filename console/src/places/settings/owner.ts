// Whose a variable or a secret is: a place's, or a pool's.
import { usePools, useProjects, useTeams } from "../../api/hooks";
import { type Role, placeName, useMay } from "../../api/may";

export interface Owned {
  place: string;
  pool?: string | null;
}

/** What people call its owner. */
export const ownerName = ({ place, pool }: Owned) => (pool ? `the pool ${pool}` : placeName(place));

/** What a request names as the owner. */
export const ownerOf = ({ place, pool }: Owned) => (pool ? { pool } : { place });

const POOL = "pool:";

/** How a form's field says whose it is. */
export const ownerValue = ({ place, pool }: Partial<Owned>) => (pool ? POOL + pool : place);

/** What a request names as the owner that was chosen in a form. */
export const chosenOwner = (value = "") => (value.startsWith(POOL) ? { pool: value.slice(POOL.length) } : { place: value });

/** The places and pools for which one may set something, to choose from. */
export function useOwners(role: Role) {
  const may = useMay();
  const known = [...(useTeams().data?.items ?? []), ...(useProjects().data?.items ?? [])].map(({ path }) => path);
  const places = ["", ...known.toSorted()].filter((path) => may(role, path));
  const pools = (usePools().data?.items ?? []).filter(({ owner }) => may(role, owner)).map(({ name }) => name);
  return [
    ...places.map((place) => ({ value: ownerValue({ place }) ?? "", label: placeName(place) })),
    ...pools.map((pool) => ({ value: POOL + pool, label: `the pool ${pool}` })),
  ];
}
