// The fields that grant a role at a place, and the places where the one who is signed in may do so.
import { useProjects, useTeams } from "../../api/hooks";
import { placeName, useMay } from "../../api/may";
import { Row, SelectField } from "../../parts/form/fields";
import { ROLES } from "./roles";

/** The paths of all places that are shown: the root, teams and projects. */
export function usePlaces(): string[] {
  const below = [...(useTeams().data?.items ?? []), ...(useProjects().data?.items ?? [])];
  return ["", ...below.map(({ path }) => path).toSorted()];
}

/** The paths of the places where the one who is signed in manages access. */
export function useManagedPlaces(): string[] {
  const may = useMay();
  return usePlaces().filter((path) => may("admin", path));
}

/** A place to choose among those with these paths. */
export function PlaceField({ places, label = "Place", width, hint }: { places: string[]; label?: string; width?: string; hint?: string }) {
  return (
    <SelectField name="place" label={label} width={width} hint={hint} options={places.map((path) => ({ value: path, label: placeName(path) }))} />
  );
}

/** A role and its place, one below the other, with what they mean. */
export function GrantFields({ places, role = "Role", hint = "Each role includes the ones above it in the list." }: { places: string[]; role?: string; hint?: string }) {
  return (
    <>
      <SelectField name="role" label={role} options={ROLES} hint={hint} />
      <PlaceField places={places} hint="The role is valid at the place and at everything below it." />
    </>
  );
}

/** A role and its place beside each other. */
export function GrantRow({ places }: { places: string[] }) {
  return (
    <Row>
      <SelectField name="role" label="Role" width="26em" options={ROLES} />
      <PlaceField places={places} width="16em" />
    </Row>
  );
}
