import { useQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import { type Sla, type SlaBy, serviceClassesQuery, slaQuery, transportsQuery } from "../../api/pathQueries";
import { useMay } from "../../app/session";
import { useSetSearch } from "../../app/useSetSearch";
import { counted, rate, text } from "../../components/format";
import { InlineToggles } from "../../components/InlineToggles";
import { Problem } from "../../components/Problem";
import { BY, minutes, monthBeside, promised, share, within } from "./levelWords";
import { LISTS } from "./pathWords";
import { ServiceClassForm } from "./ServiceClassForm";
import { TransportForm } from "./TransportForm";

/** What was promised for a month, and what was kept. */
export function ServiceLevels() {
  const [search] = useSearchParams();
  const set = useSetSearch();
  const now = new Date().toISOString().slice(0, 7);
  const month = search.get("month") ?? now;
  const by = BY.find(([name]) => name === search.get("by"))?.[0] ?? "class";
  const narrowed = {
    service_class: search.get("class"),
    site: search.get("site"),
    provider: search.get("provider"),
    group: search.get("group"),
  };
  const only = Object.fromEntries(Object.entries(narrowed).filter(([, value]) => value)) as Record<string, string>;
  const zone = Intl.DateTimeFormat().resolvedOptions().timeZone;
  const { data, error } = useQuery(slaQuery({ month, by, zone, ...only }));
  const file = (format: string) => `/api/v1/sla/export?${new URLSearchParams({ month, by, zone, ...only, format })}`;
  const named = new Date(`${month}-15T12:00:00Z`).toLocaleDateString("en-GB", { month: "long", year: "numeric" });
  return (
    <div className="grid h-full grid-cols-[minmax(0,1fr)_350px] max-lg:h-auto max-lg:grid-cols-[minmax(0,1fr)]">
      <section aria-label="Service levels" className="min-h-0 overflow-auto px-4 pt-2 pb-4">
        <h1 className="text-large font-semibold">Service levels, {named}</h1>
        <div className="flex flex-wrap items-center gap-x-3 text-small">
          <InlineToggles label="Show" value="levels" options={LISTS} onChoose={(list) => set({ list })} />
          <span className="ml-auto flex items-center gap-2">
            <button type="button" className="underline" onClick={() => set({ month: monthBeside(month, -1) })}>
              month before
            </button>
            {month < now && (
              <button type="button" className="underline" onClick={() => set({ month: monthBeside(month, 1) })}>
                month after
              </button>
            )}
          </span>
        </div>
        <div className="flex flex-wrap items-center gap-x-3 text-small">
          <span className="text-ink2">by</span>
          <InlineToggles
            label="Put together by"
            value={by}
            options={BY}
            onChoose={(each) => set({ by: each === "class" ? "" : each })}
          />
          {Object.entries({
            class: narrowed.service_class,
            site: narrowed.site,
            provider: narrowed.provider,
            group: narrowed.group,
          }).map(
            ([name, value]) =>
              value && (
                <button
                  key={name}
                  type="button"
                  className="bg-lampsoft px-1"
                  title="take this filter away"
                  onClick={() => set({ [name]: "" })}
                >
                  {name} {value} ×
                </button>
              ),
          )}
          <span className="ml-auto text-ink2">
            {["pdf", "csv", "parquet"].map((format) => (
              <a key={format} className="ml-2 inline-block min-h-6 underline" href={file(format)}>
                {format === "parquet" ? "Parquet" : format.toUpperCase()}
              </a>
            ))}
          </span>
        </div>
        <Problem error={error} />
        {data && <p className="py-2">{data.words}</p>}
        {data && data.rows.length > 0 && <Rows rows={data.rows} by={by} />}
        {data && data.rows.length === 0 && (
          <p className="max-w-[520px] text-ink2">
            A service class says what is promised of paths; put paths into one, and their minutes are judged from then
            on, each hour a few minutes after it.
          </p>
        )}
      </section>
      <aside
        aria-label="What is promised"
        className="min-h-0 overflow-auto border-l border-rule px-4 py-3 max-lg:border-l-0"
      >
        <Promised />
      </aside>
    </div>
  );
}

const GRID =
  "grid-cols-[minmax(110px,1fr)_76px_66px_66px_96px_minmax(120px,0.9fr)] max-md:grid-cols-[minmax(0,1fr)_66px_96px]";
const WIDE = "max-md:hidden";

function Rows({ rows, by }: { rows: Sla["rows"]; by: SlaBy }) {
  const [search] = useSearchParams();
  return (
    <div className="figures">
      <div className={`grid ${GRID} gap-x-3 border-b border-rule text-small text-ink2`}>
        <span>{by === "class" ? "service class" : `${by}, service class`}</span>
        <span className="text-right">kept</span>
        <span className={`text-right ${WIDE}`}>promised</span>
        <span className={`text-right ${WIDE}`} title="at the end of the month, if it goes on as in the last three days">
          expected
        </span>
        <span className="text-right">budget left</span>
        <span className={WIDE} title="each day, how much of it was missed; the line is what may be">
          day by day
        </span>
      </div>
      <ul>
        {rows.map((row) => {
          const inner = within(by, row);
          const next = new URLSearchParams(search);
          for (const [name, value] of Object.entries(inner ?? {})) next.set(name, value);
          const isBroken = row.kept !== null && row.kept < row.promised;
          return (
            <li
              key={`${row.name} ${row.service_class} ${row.promised}`}
              className={`grid ${GRID} items-center gap-x-3 border-b border-faint py-[5px] hover:bg-lampsoft`}
            >
              <span className="min-w-0 truncate" title={detail(row)}>
                <Link
                  className="font-medium hover:underline"
                  to={by === "path" ? `/paths/${row.paths[0]}` : inner ? `/paths?${next}` : `/paths?${search}`}
                >
                  {row.name}
                </Link>{" "}
                <span className="text-ink2">
                  {by === "class" ? counted(row.paths.length, "path") : row.service_class}
                </span>
              </span>
              <span className={`text-right ${isBroken ? "font-semibold text-critical" : ""}`}>{share(row.kept)}</span>
              <span className={`text-right text-ink2 ${WIDE}`}>{row.promised} %</span>
              <span
                className={`text-right ${WIDE} ${row.forecast !== null && row.forecast < row.promised ? "text-critical" : "text-ink2"}`}
              >
                {share(row.forecast)}
              </span>
              <span className={`text-right ${row.left < 0 ? "font-semibold text-critical" : ""}`}>
                {minutes(row.left)}
              </span>
              <Days row={row} />
            </li>
          );
        })}
      </ul>
    </div>
  );
}

/** What was judged, and which targets were missed. */
function detail(row: Sla["rows"][0]): string {
  const by = Object.entries(row.missed_by).map(([measure, number]) => `${measure.replace("path_", "")} ${number} min`);
  const parts = [
    `${row.missed.toLocaleString("en-GB")} of ${row.judged.toLocaleString("en-GB")} minutes missed`,
    by.length > 0 && `by target: ${by.join(", ")}`,
    row.excluded > 0 && `${row.excluded.toLocaleString("en-GB")} in maintenance`,
  ];
  return parts.filter(Boolean).join("; ");
}

/** A bar for each day: how much of it was missed, up to five times what may be. */
function Days({ row: { days, promised: wanted } }: { row: Sla["rows"][0] }) {
  const most = 5 * (100 - wanted);
  const step = 100 / Math.max(1, days.length);
  const missedOn = days.filter((kept) => kept !== null && kept < wanted).length;
  return (
    <svg
      viewBox="0 0 100 20"
      preserveAspectRatio="none"
      className={`h-5 w-full ${WIDE}`}
      role="img"
      aria-label={`${counted(missedOn, "day")} below the promise`}
    >
      {days.map(
        (kept, day) =>
          kept !== null && (
            <rect
              // biome-ignore lint/suspicious/noArrayIndexKey: a day of the month is its place
              key={day}
              x={day * step}
              width={step * 0.75}
              y={20 - Math.max(1, Math.min(20, (20 * (100 - kept)) / most))}
              height={Math.max(1, Math.min(20, (20 * (100 - kept)) / most))}
              fill={kept < wanted ? "var(--critical)" : "var(--ink)"}
            />
          ),
      )}
      <line x1="0" x2="100" y1="16" y2="16" stroke="var(--ink2)" strokeWidth="0.5" vectorEffect="non-scaling-stroke" />
    </svg>
  );
}

/** Service classes and transports, and their forms. */
function Promised() {
  const [search] = useSearchParams();
  const set = useSetSearch();
  const mayChange = useMay()("engineer", true);
  const { data: classes } = useQuery(serviceClassesQuery);
  const { data: transports } = useQuery(transportsQuery);
  const [kind, which] = (search.get("edit") ?? "").split(":");
  const done = () => set({ edit: "" });
  if (kind === "class")
    return <ServiceClassForm key={which} row={classes?.find(({ id }) => String(id) === which) ?? null} onDone={done} />;
  if (kind === "transport")
    return <TransportForm key={which} row={transports?.find(({ id }) => String(id) === which) ?? null} onDone={done} />;
  const change = (edit: string, words: string) =>
    mayChange && (
      <button type="button" className="underline" onClick={() => set({ edit })}>
        {words}
      </button>
    );
  return (
    <>
      <h2 className="heading">Service classes</h2>
      <ul className="text-small">
        {(classes ?? []).map((row) => (
          <li key={row.id} className="border-b border-faint py-1">
            <span className="flex items-baseline gap-2">
              <b className="font-medium">{row.name}</b>
              <span className="text-ink2">{counted(row.paths, "path")}</span>
              <span className="ml-auto">{change(`class:${row.id}`, "change")}</span>
            </span>
            <span className="text-ink2">{promised(row)}</span>
          </li>
        ))}
      </ul>
      <p className="py-1 text-small">{change("class:", "new service class")}</p>
      <h2 className="heading mt-3">Transports</h2>
      <ul className="figures text-small">
        {(transports ?? []).map((row) => (
          <li key={row.id} className="border-b border-faint py-1">
            <span className="flex items-baseline gap-2">
              <b className="font-medium">{row.name}</b>
              <span className="ml-auto">{change(`transport:${row.id}`, "change")}</span>
            </span>
            <span className="text-ink2">
              {[
                row.provider,
                row.down_bps && `${text(rate(row.down_bps))} down`,
                row.up_bps && `${text(rate(row.up_bps))} up`,
                row.price && `${row.price.toFixed(2)} ${row.currency} a month`,
              ]
                .filter(Boolean)
                .join(", ")}
            </span>
          </li>
        ))}
      </ul>
      <p className="py-1 text-small">{change("transport:", "new transport")}</p>
    </>
  );
}
