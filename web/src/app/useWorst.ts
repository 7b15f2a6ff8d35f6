import { useQuery } from "@tanstack/react-query";
import { useEffect } from "react";
import { worstQuery } from "../api/queries";
import { counted } from "../components/format";
import { SEVERITIES } from "../components/severities";

/** What the browser's tab says: how many alarms are active and how bad the worst is; only the name where there are none. */
export function titleOf(active: number, worst: number): string {
  return active ? `${counted(active, "alarm")}, ${SEVERITIES[worst]?.word} · Lumtar` : "Lumtar";
}

/** Keeps title and icon of the browser's tab at the worst alarm that is active now, whatever time the screen shows. */
export function useWorst() {
  const { data } = useQuery(worstQuery);
  const worst = data?.rows[0]?.severity ?? 0;
  const active = data?.total ?? 0;
  useEffect(() => {
    document.title = titleOf(active, worst);
    document.querySelector("link[rel=icon]")?.setAttribute("href", worst ? `/severity-${worst}.svg` : "/mark.svg");
  }, [active, worst]);
}
