import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { healthQuery } from "../api/queries";
import { duration } from "../components/format";
import { useClock } from "../components/useClock";

/** The health of Lumtar itself, in one line at the foot of every view. */
export function Footer() {
  const now = useClock();
  const { data: health, error } = useQuery(healthQuery);
  const trouble = error ? error.message : health && !health.ok ? health.words : "";
  const collectors = health?.processes.filter((process) => process.kind === "collector" && process.alive) ?? [];
  const sum = (name: string) => collectors.reduce((all, each) => all + Number(each.detail[name] ?? 0), 0);
  const late = Math.max(0, ...collectors.map((each) => Number(each.detail.lag_s ?? 0)));
  const more = (health?.troubles.length ?? 0) - 1;
  const newest = health?.newest_reading_at ? (now - Date.parse(health.newest_reading_at)) / 1000 : null;
  return (
    <footer className="figures flex gap-5 overflow-hidden border-t border-rule px-4 pt-1 text-tiny whitespace-nowrap text-ink2">
      <span role="status" className="min-w-0 truncate">
        <b className="font-semibold text-ink">Lumtar itself</b>{" "}
        {trouble ? (
          <Link to="/setup/services" className="font-semibold text-critical hover:underline">
            {trouble}
            {more > 0 && ` and ${more} more`}
          </Link>
        ) : health ? (
          "all well"
        ) : (
          "…"
        )}
      </span>
      {newest !== null && <span className="max-[400px]:hidden">newest reading {duration(newest)} ago</span>}
      {collectors.length > 0 && (
        <span className="max-md:hidden">
          {collectors.length > 1 ? `${collectors.length} collectors poll` : "collector polls"} {sum("devices")} devices,{" "}
          {late ? `${late} s behind` : "on time"}
        </span>
      )}
      {sum("waiting_rows") > 2000 && <span>{sum("waiting_rows")} readings wait to be stored</span>}
    </footer>
  );
}
