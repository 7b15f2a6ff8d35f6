import { useQuery } from "@tanstack/react-query";
import type { Schemas } from "../../api/client";
import { type ForecastFilter, forecastsQuery } from "../../api/queries";
import { date, percent } from "../../components/format";
import { Problem } from "../../components/Problem";

type Row = Schemas["ForecastRow"];

type Props = {
  /** Of one port, or of several together. */
  filter: ForecastFilter;
  at: string | null;
};

/** When a port, or several together, will be full, in a sentence a direction. */
export function Forecast({ filter, at }: Props) {
  const { data, error } = useQuery(forecastsQuery(at, filter));
  const rows = [...(data ?? [])].sort((one, other) => one.way.localeCompare(other.way));
  if (error) return <Problem error={error} />;
  if (rows.length === 0) return null;
  return (
    <section aria-label="Forecast">
      <h2 className="heading mt-3">
        Forecast{" "}
        <span className="font-normal text-ink2">
          95th percentile of the busiest weekday, by its trend{filter.together && ", of the sum of the speeds"}
        </span>
      </h2>
      {rows.map((row) => (
        <p key={row.way} className="figures grid grid-cols-[26px_minmax(0,1fr)] py-0.5 text-small">
          <b className={`font-semibold ${row.way === "in" ? "text-in" : "text-out"}`}>{row.way}</b>
          <span>{sentence(row)}</span>
        </p>
      ))}
    </section>
  );
}

function sentence(row: Row): string {
  if (row.level_percent === null || row.verdict === "too short" || row.verdict === "too irregular") return row.words;
  const next = row.reached.find((each) => each.on !== each.earliest || each.on !== each.latest);
  const until = next?.latest ? `and ${date(next.latest)}` : "and a day that cannot be said";
  return [
    `${percent(row.level_percent)} % now, from ${row.days} days. ${row.words}`,
    next ? `${next.share} % on ${date(next.on)}, most likely between ${date(next.earliest)} ${until}.` : "",
  ].join(" ");
}
