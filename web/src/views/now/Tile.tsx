import { useQuery } from "@tanstack/react-query";
import { useLive } from "../../api/live";
import { worstQuery } from "../../api/queries";
import { useWorst } from "../../app/useWorst";
import { duration } from "../../components/format";
import { Severity } from "../../components/Severity";
import { SEVERITIES } from "../../components/severities";
import { useClock } from "../../components/useClock";

/** Now in a corner of a screen: how bad it is, read from across a desk. */
export function Tile() {
  const { data, error } = useQuery(worstQuery);
  const at = useClock();
  useLive(true);
  useWorst();
  const worst = data?.rows[0];
  return (
    <main className="grid h-full grid-rows-[minmax(0,1fr)_auto] p-3">
      <div className="flex min-h-0 items-center gap-4">
        <Severity level={worst?.severity ?? 0} size="88px" />
        <p className="min-w-0">
          <b className="figures block text-[64px] leading-none font-semibold">{data?.total ?? "–"}</b>
          <span className="text-[17px]">
            {error ? "Lumtar does not answer" : worst ? SEVERITIES[worst.severity]?.word : "no active alarms"}
          </span>
        </p>
      </div>
      {worst && (
        <p className="text-small">
          <b className="block truncate font-semibold">{worst.label}</b>
          <span className="line-clamp-2 text-ink2">
            {duration((at - Date.parse(worst.raised_at)) / 1000)}: {worst.text}
          </span>
        </p>
      )}
    </main>
  );
}
