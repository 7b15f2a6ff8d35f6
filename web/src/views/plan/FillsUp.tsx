import { useQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import type { Schemas } from "../../api/client";
import { forecastsQuery } from "../../api/queries";
import { useRowKeys } from "../../app/keys";
import { useScreenTime, useTimeSearch } from "../../app/screenTime";
import { usePlace } from "../../app/usePlace";
import { useSetSearch } from "../../app/useSetSearch";
import { Figure } from "../../components/Figure";
import { date, percent, rate, text } from "../../components/format";
import { InlineChoice } from "../../components/InlineChoice";
import { Problem } from "../../components/Problem";
import { Forecast } from "../fleet/Forecast";
import { ROLE_CHOICES } from "../fleet/roles";
import { PlaceChoice, PlanHead } from "./PlanHead";

type Row = Schemas["ForecastRow"];
const COLUMNS = "grid-cols-[minmax(150px,1.3fr)_minmax(100px,0.8fr)_34px_96px_100px_minmax(90px,0.5fr)_repeat(4,96px)]";
const SHARES = [70, 80, 90, 100];

/** When ports will be full, by the trend of their daily 95th percentile; what is full first stands first. */
export function FillsUp() {
  const [search] = useSearchParams();
  const set = useSetSearch();
  const time = useScreenTime();
  const keep = useTimeSearch();
  useRowKeys();
  const { place } = usePlace();
  const role = search.get("role") ?? (place.group ? "any" : "wan");
  const filter = { ...(role === "any" ? {} : { role }), ...place };
  const { data, error } = useQuery(forecastsQuery(time.at, filter));
  const short = data?.filter((row) => row.verdict === "too short").length ?? 0;
  const shown = data?.filter((row) => row.verdict !== "too short") ?? [];
  return (
    <div className="flex h-full flex-col px-4 pt-3">
      <PlanHead words={data && `${(data.length / 2).toLocaleString("en")} ports, in and out`} />
      <div className="flex flex-wrap items-center gap-x-3 border-b border-rule py-1.5 text-small">
        <InlineChoice
          label="ports with the role"
          value={role}
          options={ROLE_CHOICES}
          onChoose={(each) => set({ role: each })}
        />
        <span className="text-ink2">
          From the 95th percentile of each day, up to half a year of them; the busiest weekday counts. The dates in the
          second line hold four of five times.
        </span>
        <PlaceChoice />
      </div>
      <Problem error={error} />
      {place.group && <Forecast filter={{ ...filter, together: true }} at={time.at} />}
      <div className={`grid ${COLUMNS} gap-2.5 border-b border-rule py-1 text-small text-ink2`}>
        <span>port</span>
        <span>device</span>
        <span />
        <span className="text-right">busiest day</span>
        <span className="text-right">a month</span>
        <span>what can be said</span>
        {SHARES.map((share) => (
          <span key={share} className="text-right">
            {share} %
          </span>
        ))}
      </div>
      <ol className="min-h-0 grow overflow-auto">
        {shown.map((row) => (
          <li key={`${row.id} ${row.way}`}>
            <Link
              data-row
              to={`/fleet/port/${row.id}${keep({ device: String(row.device_id), span: "30d" })}`}
              className={`figures grid ${COLUMNS} items-center gap-2.5 border-b border-faint py-1 text-small hover:bg-lampsoft focus:bg-lampsoft`}
            >
              <span className="truncate">{row.label}</span>
              <span className="truncate">{row.device}</span>
              <b className={`font-semibold ${row.way === "in" ? "text-in" : "text-out"}`}>{row.way}</b>
              <span className="text-right">
                {percent(row.level_percent)}
                <span className="unit">%</span>{" "}
                <span className="block text-ink2">{row.level_bps === null ? "" : text(rate(row.level_bps))}</span>
              </span>
              <Slope row={row} />
              <span title={row.words}>{row.verdict}</span>
              {SHARES.map((share) => (
                <Reached key={share} row={row} share={share} />
              ))}
            </Link>
          </li>
        ))}
        {short > 0 && (
          <li className="py-1.5 text-small text-ink2">
            Of {short} more directions the history is too short: at least 28 measured days over four weeks are needed.
          </li>
        )}
      </ol>
    </div>
  );
}

/** The trend in a month, and its interval. */
function Slope({ row }: { row: Row }) {
  const { slope_bps, lowest_bps, highest_bps } = row;
  if (slope_bps === null || lowest_bps === null || highest_bps === null) return <span />;
  const month = (bps: number) => `${bps < 0 ? "−" : "+"}${text(rate(Math.abs(bps) * 30))}`;
  return (
    <span className="text-right" title={`between ${month(lowest_bps)} and ${month(highest_bps)} a month`}>
      <Figure
        of={{
          figure: `${slope_bps < 0 ? "−" : "+"}${rate(Math.abs(slope_bps) * 30).figure}`,
          unit: rate(Math.abs(slope_bps) * 30).unit,
        }}
      />
    </span>
  );
}

/** The day on which a share is reached, and between which days it most likely is. */
function Reached({ row, share }: { row: Row; share: number }) {
  const crossing = row.reached.find((each) => each.share === share);
  if (!crossing) return <span className="text-right text-ink2">–</span>;
  if (crossing.on === crossing.earliest && crossing.on === crossing.latest)
    return <span className="text-right">already</span>;
  return (
    <span className="text-right">
      {date(crossing.on)}
      <span className="block text-tiny text-ink2">
        {date(crossing.earliest)} – {crossing.latest ? date(crossing.latest) : "?"}
      </span>
    </span>
  );
}
