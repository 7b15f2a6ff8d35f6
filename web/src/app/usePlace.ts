import { useQuery } from "@tanstack/react-query";
import { useSearchParams } from "react-router";
import { groupsQuery, type Place } from "../api/queries";

/** The site or the group that is looked at, from the address, and what it is called; nothing for everywhere. */
export function usePlace(): { place: Place; name: string } {
  const [search] = useSearchParams();
  const site = search.get("site") ?? "";
  const group = Number(search.get("group")) || 0;
  const { data: groups } = useQuery({ ...groupsQuery, enabled: group > 0 });
  if (!group) return { place: site ? { site } : {}, name: site };
  return { place: { group }, name: groups?.rows.find((each) => each.id === group)?.name ?? `group ${group}` };
}
