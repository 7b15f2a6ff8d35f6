import { useQuery } from "@tanstack/react-query";
import type { Schemas } from "../api/client";
import { sessionQuery } from "../api/queries";

export type Role = NonNullable<Schemas["SessionOut"]["role"]>;

const RANK: Role[] = ["viewer", "operator", "engineer", "administrator"];

/** Whether a role includes another one. */
export const includes = (role: Role, wanted: Role) => RANK.indexOf(role) >= RANK.indexOf(wanted);

/** Whether whoever is signed in may do what needs a role; for the whole network if they are not limited to a part. */
export function useMay() {
  const { data } = useQuery(sessionQuery);
  return (wanted: Role, whole = false) =>
    Boolean(data?.role && includes(data.role, wanted) && !(whole && data.limited));
}
