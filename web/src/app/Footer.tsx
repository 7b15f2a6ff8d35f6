import { useQuery } from "@tanstack/react-query";
import { healthQuery } from "../api/queries";
import { duration } from "../parts/format";
import { useClock } from "../parts/useClock";

/** The health of Lumtar itself, in one line at the foot of every view. */
export function Footer() {
  const now = useClock();
  const { data: health, error } = useQuery(healthQuery);
  const trouble = error ? error.message : health && !health.ok ? health.words : "";
  const collector = health?.processes.find((process) => process.name === "collector");
  const detail = (collector?.detail ?? {}) as Record<string, number>;
  const newest = health?.newest_reading_at ? (now - Date.parse(health.newest_reading_at)) / 1000 : null;
  return (
    <footer className="figures flex gap-5 overflow-hidden border-t border-rule px-4 pt-1 text-[11.5px] whitespace-nowrap text-ink2">
      <span role="status">
        <b className="font-semibold text-ink">Lumtar itself</b>{" "}
        {trouble ? <b className="font-semibold text-critical">{trouble}</b> : health ? "all well" : "…"}
      </span>
      {newest !== null && <span>newest reading {duration(newest)} ago</span>}
      {collector?.alive && (
        <span>
          collector polls {detail.devices} devices, {detail.lag_s ? `${detail.lag_s} s behind` : "on time"}
        </span>
      )}
      {(detail.waiting_rows ?? 0) > 2000 && <span>{detail.waiting_rows} readings wait to be stored</span>}
    </footer>
  );
}
