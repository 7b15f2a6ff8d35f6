import { useQuery } from "@tanstack/react-query";
import { useNavigate, useSearchParams } from "react-router";
import { sitesAtQuery } from "../../api/queries";
import { type By, type Traffic as Data, prefixTablesQuery, trafficQuery } from "../../api/trafficQueries";
import { useScreenTime, useSetScreenTime } from "../../app/screenTime";
import { useSetSearch } from "../../app/useSetSearch";
import { layerToken, TrafficChart } from "../../charts/TrafficChart";
import { counted, duration, moment, percent, rate, text, volume } from "../../components/format";
import { InlineChoice } from "../../components/InlineChoice";
import { InlineToggles } from "../../components/InlineToggles";
import { Problem } from "../../components/Problem";
import { Captures } from "./Captures";
import { Exporters } from "./Exporters";
import { NarrowLink } from "./NarrowLink";
import { PlacesPicture } from "./PlacesPicture";
import { Records } from "./Records";
import { ResponseTimes } from "./ResponseTimes";
import { SiteMatrix } from "./SiteMatrix";
import { Strangers } from "./Strangers";
import { FILTERS, layersOf, useTrafficFilter } from "./trafficFilter";
import { useWatched } from "./useWatched";
import { Watched } from "./Watched";

const BY: readonly (readonly [By, string])[] = [
  ["application", "application"],
  ["conversation", "conversation"],
  ["sender", "sender"],
  ["receiver", "receiver"],
  ["site", "sites"],
  ["port", "port"],
  ["protocol", "protocol"],
  ["DSCP", "DSCP"],
];
/** Rows that are asked for where a picture shows all of them. */
const MOST: Partial<Record<By, number>> = { site: 500, place: 200 };
/** Of whoever is elsewhere, by tables that an engineer loaded. */
const FAR: readonly (readonly [By, string, string])[] = [
  ["AS", "AS", "systems"],
  ["country", "country", "places"],
  ["place", "place", "places"],
];
const LISTS = [
  ["totals", "totals"],
  ["times", "response times"],
  ["records", "records"],
  ["strangers", "strangers"],
  ["captures", "captures"],
] as const;
const COMPARED = [
  ["", "nothing"],
  ["86400", "yesterday"],
  ["604800", "last week"],
] as const;
const UNITS = [
  ["rate", "rate"],
  ["volume", "bytes"],
  ["share", "share"],
] as const;

const ONLY = [
  ["interface", "port"],
  ["device", "device"],
  ["group", "group"],
] as const;

/** Who uses an interface, a device, a group, a site or the network, for what. */
export function Traffic() {
  const time = useScreenTime();
  const { show, follow } = useSetScreenTime();
  const navigate = useNavigate();
  const [search] = useSearchParams();
  const set = useSetSearch();
  const filter = useTrafficFilter();
  const { data: tables } = useQuery(prefixTablesQuery);
  const loaded = FAR.filter(([, , table]) => tables?.some(({ kind }) => kind === table));
  const ways = [...BY, ...loaded.map(([name, words]) => [name, words] as const)];
  const by = [...BY, ...FAR].find(([name]) => name === search.get("by"))?.[0] ?? "application";
  const list = LISTS.find(([name]) => name === search.get("list"))?.[0] ?? "totals";
  const earlier = Number(COMPARED.find(([seconds]) => seconds === search.get("against"))?.[0] ?? "");
  const { data, error } = useQuery(trafficQuery(by, filter, time.range, MOST[by] ?? 50, earlier));
  useWatched();
  const back = () => (time.following ? follow(time.span ?? undefined) : navigate(-1));
  return (
    <div className="grid h-full grid-cols-[minmax(0,1fr)_330px] max-lg:h-auto max-lg:grid-cols-[minmax(0,1fr)]">
      <section aria-label="Traffic" className="min-h-0 overflow-auto px-4 pt-2 pb-4">
        <h1 className="text-large font-semibold">
          Traffic of {data?.title ?? "…"}{" "}
          <span className="text-body font-normal text-ink2">
            {data &&
              list === "totals" &&
              `${text(volume(data.octets))} in ${duration((Date.parse(data.end) - Date.parse(data.start)) / 1000)}`}
          </span>
        </h1>
        <div className="flex flex-wrap items-center gap-x-3 gap-y-1 text-small">
          <Scope />
          <Filters filters={data?.filters ?? []} />
          <InlineToggles
            label="Show"
            value={list}
            options={LISTS}
            onChoose={(each) => set({ list: each === "totals" ? "" : each })}
          />
          {list === "totals" && (
            <span className="ml-auto flex flex-wrap items-center gap-x-1 text-ink2">
              by{" "}
              <InlineToggles label="Put together by" value={by} options={ways} onChoose={(each) => set({ by: each })} />
            </span>
          )}
        </div>
        <Problem error={error} />
        {list === "times" && <ResponseTimes />}
        {list === "records" && <Records />}
        {list === "strangers" && <Strangers />}
        {list === "captures" && <Captures />}
        {list === "totals" && data && data.octets === 0 && <Nothing />}
        {list === "totals" && data && data.octets > 0 && (
          <>
            <TrafficChart
              at={data.at}
              layers={layersOf(data)}
              counter={data.counter}
              speed={data.speed_bps}
              start={time.start}
              end={time.end}
              onZoom={show}
              onBack={back}
            />
            {by === "site" && <SiteMatrix rows={data.rows} />}
            {by === "place" && <PlacesPicture rows={data.rows} />}
            {data.explained && <Explained explained={data.explained} />}
            <Rows data={data} by={by} />
          </>
        )}
      </section>
      <aside
        aria-label="Beside the traffic"
        className="min-h-0 overflow-auto border-l border-rule px-4 py-3 max-lg:border-l-0"
      >
        {by !== "application" && <Short title="Applications" by="application" />}
        {by !== "conversation" && <Short title="Conversations" by="conversation" />}
        {by !== "site" && <Short title="Between sites" by="site" />}
        <Watched filter={filter} />
        <Exporters />
      </aside>
    </div>
  );
}

/** Which traffic: everything, or that of a site; ports, devices and groups are reached from their pages. */
function Scope() {
  const time = useScreenTime();
  const [search] = useSearchParams();
  const set = useSetSearch();
  const { data: sites } = useQuery(sitesAtQuery(time.at));
  const interfaceId = search.get("interface");
  if (interfaceId) {
    return (
      <InlineToggles
        label="Direction"
        value={search.get("way") ?? "out"}
        options={[
          ["in", "in"],
          ["out", "out"],
        ]}
        onChoose={(way) => set({ way })}
      />
    );
  }
  return (
    <InlineChoice
      label="of"
      value={search.get("site") ?? ""}
      options={[["", "the whole network"], ...(sites ?? []).map(({ name }) => [name, name] as const)]}
      onChoose={(site) => set({ site, device: "", group: "" })}
    />
  );
}

/** The filters in force, as a sentence; each is taken away by itself. */
function Filters({ filters }: { filters: Data["filters"] }) {
  const set = useSetSearch();
  const [search] = useSearchParams();
  const shown = filters.filter(({ name }) => FILTERS.includes(name));
  const only = ONLY.find(([name]) => search.get(name));
  return (
    <>
      {only && (
        <button type="button" className="button" onClick={() => set({ interface: "", device: "", group: "", way: "" })}>
          only this {only[1]} <span aria-hidden>✕</span>
          <span className="sr-only">take away</span>
        </button>
      )}
      {shown.map(({ name, words }) => (
        <button key={name} type="button" className="button" onClick={() => set({ [name]: "" })}>
          {words} <span aria-hidden>✕</span>
          <span className="sr-only">take away</span>
        </button>
      ))}
    </>
  );
}

function Nothing() {
  return (
    <p className="py-3 text-ink2">
      No flow records for this time. Routers and switches send them (NetFlow, IPFIX, sFlow) to the address and port
      where Lumtar listens; who does is listed beside.
    </p>
  );
}

/** How much of what the interface counted flows explain, and why not all of it. */
function Explained({ explained }: { explained: NonNullable<Data["explained"]> }) {
  return (
    <p className="py-1 text-small">
      Flows explain{" "}
      <b className="font-semibold">{explained.percent === null ? "–" : `${percent(explained.percent)} %`}</b> of the{" "}
      {text(volume(explained.of))} that the port counted between {moment(new Date(explained.since))} and{" "}
      {moment(new Date(explained.until))}
      {explained.why.length > 0 && <span className="text-ink2">: {explained.why.join("; ")}</span>}.
    </p>
  );
}

const GRID =
  "grid-cols-[14px_minmax(0,1.6fr)_minmax(0,1fr)_84px_minmax(60px,0.7fr)_56px_62px] max-md:grid-cols-[14px_minmax(0,1fr)_84px]";

function Rows({ data, by }: { data: Data; by: By }) {
  const [search] = useSearchParams();
  const set = useSetSearch();
  const filter = useTrafficFilter();
  const unit = UNITS.find(([name]) => name === search.get("unit"))?.[0] ?? "rate";
  const most = data.rows[0]?.octets ?? 1;
  const shown = data.rows.slice(0, 50);
  const figure = (row: Data["rows"][0]) => {
    if (unit === "volume") return text(volume(row.octets));
    if (unit === "share")
      return data.speed_bps ? `${percent((100 * row.bps) / data.speed_bps)} %` : `${percent(row.percent)} %`;
    return text(rate(row.bps));
  };
  return (
    <>
      <div className="mt-2 flex flex-wrap items-baseline gap-x-3 border-b border-rule text-small">
        <h2 className="heading grow border-0">
          {counted(data.number, ONE_OF[by] ?? by)} <span className="font-normal text-ink2">by volume</span>
        </h2>
        <InlineChoice
          label="compared with"
          value={search.get("against") ?? ""}
          options={COMPARED}
          onChoose={(against) => set({ against })}
        />
        <InlineToggles label="Figures" value={unit} options={UNITS} onChoose={(each) => set({ unit: each })} />
        <span className="text-ink2">
          {(["csv", "parquet"] as const).map((format) => (
            <a key={format} className="ml-2 inline-block min-h-6 underline" href={fileOf(by, filter, data, format)}>
              {format === "csv" ? "CSV" : "Parquet"}
            </a>
          ))}
        </span>
      </div>
      <ul className="figures">
        {shown.map((row, place) => (
          <li
            key={`${row.name} ${row.more}`}
            className={`grid ${GRID} items-center gap-x-2 border-b border-faint py-[4px] hover:bg-lampsoft`}
          >
            <span
              aria-hidden
              className="h-3 w-3"
              style={{ background: row.line.length ? `var(--${layerToken(place)})` : "var(--rest)" }}
            />
            <NarrowLink row={row} next={NEXT[by] ?? "conversation"} />
            <span className="truncate text-ink2 max-md:hidden">
              {row.more} <Before row={row} />
            </span>
            <span className="text-right">{figure(row)}</span>
            <span className="max-md:hidden">
              <span className="block h-2 bg-ink" style={{ width: `${Math.max(1, (100 * row.octets) / most)}%` }} />
            </span>
            <span className="text-right max-md:hidden">{percent(row.percent)} %</span>
            <span className="text-right text-ink2 max-md:hidden">{row.flows.toLocaleString("en-GB")}</span>
          </li>
        ))}
      </ul>
      {data.number > shown.length && (
        <p className="py-1 text-ink2">
          and {(data.number - shown.length).toLocaleString("en-GB")} smaller ones, together{" "}
          {text(volume(data.octets - shown.reduce((sum, row) => sum + row.octets, 0)))}
        </p>
      )}
    </>
  );
}

/** What one row is, if it is not called by what rows are put together by. */
const ONE_OF: Partial<Record<By, string>> = { DSCP: "class", site: "pair", AS: "system" };

/** How a row was in the time that is compared with: what was not there is new. */
function Before({ row }: { row: Data["rows"][0] }) {
  if (row.before === null) return null;
  if (row.before === 0) return <b className="font-medium text-major">new</b>;
  const times = row.octets / row.before;
  return (
    <span>
      {times >= 2
        ? `${times.toFixed(times < 10 ? 1 : 0)} times as much`
        : times <= 0.5
          ? "less than half"
          : "as before"}
    </span>
  );
}

/** Where the same rows are had as a file. */
function fileOf(by: By, filter: Record<string, string>, { start, end }: Data, format: string): string {
  return `/api/v1/traffic/export?${new URLSearchParams({ ...filter, by, start, end, format })}`;
}

/** What is of interest within one of them. */
const NEXT: Record<string, string> = {
  conversation: "application",
  protocol: "port",
  port: "conversation",
  DSCP: "application",
};

/** The largest of another kind, beside. */
function Short({ title, by }: { title: string; by: By }) {
  const time = useScreenTime();
  const filter = useTrafficFilter();
  const set = useSetSearch();
  const { data } = useQuery(trafficQuery(by, filter, time.range, 8));
  if (!data?.rows.length) return null;
  return (
    <>
      <h2 className="heading mt-3">
        <button type="button" className="hover:underline" onClick={() => set({ by })}>
          {title}
        </button>{" "}
        <span className="font-normal text-ink2">{data.number.toLocaleString("en-GB")}</span>
      </h2>
      <ul className="figures text-small">
        {data.rows.map((row) => (
          <li
            key={`${row.name} ${row.more}`}
            className="grid grid-cols-[minmax(0,1fr)_78px] items-center gap-2 border-b border-dotted border-rule py-[3px]"
          >
            <NarrowLink row={row} next={NEXT[by] ?? "conversation"} />
            <span className="text-right">{text(rate(row.bps))}</span>
          </li>
        ))}
      </ul>
    </>
  );
}
