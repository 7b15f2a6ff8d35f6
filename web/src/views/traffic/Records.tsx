import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useSearchParams } from "react-router";
import { type FlowRecord, liveRecordsQuery, recordsQuery, type TrafficFilter } from "../../api/trafficQueries";
import { useScreenTime } from "../../app/screenTime";
import { useMay } from "../../app/session";
import { useSetSearch } from "../../app/useSetSearch";
import { clock, counted, text, volume } from "../../components/format";
import { InlineChoice } from "../../components/InlineChoice";
import { Problem } from "../../components/Problem";
import { Recordings } from "./Recordings";
import { useTrafficFilter } from "./trafficFilter";

const LAST = [
  ["10", "10 s"],
  ["60", "minute"],
  ["600", "10 min"],
] as const;
const EVERY_MS = 1000;

/** Flow records one by one: as they come, or those that were kept of a past time. */
export function Records() {
  const time = useScreenTime();
  const may = useMay();
  const filter = useTrafficFilter();
  return (
    <>
      {time.following && may("operator") ? <Live filter={filter} /> : <Kept filter={filter} range={time.range} />}
      <Recordings device={filter.device ? Number(filter.device) : null} />
    </>
  );
}

function Live({ filter }: { filter: TrafficFilter }) {
  const [search] = useSearchParams();
  const set = useSetSearch();
  const [on, setOn] = useState(true);
  const last = LAST.find(([seconds]) => seconds === search.get("last"))?.[0] ?? "60";
  const { data, error } = useQuery({
    ...liveRecordsQuery(filter, Number(last)),
    enabled: on,
    refetchInterval: (query) => (query.state.error ? 5 * EVERY_MS : EVERY_MS),
  });
  return (
    <>
      <p className="flex flex-wrap items-center gap-x-4 py-1 text-small">
        <InlineChoice label="the last" value={last} options={LAST} onChoose={(each) => set({ last: each })} />
        <button type="button" className="h-6 underline" onClick={() => setOn(!on)}>
          {on ? "Pause" : "Go on"}
        </button>
        <span className="text-ink2">
          {on ? "Records as they come; routers tell of a flow when it ends, or every so often." : "Paused."}{" "}
          {data && `${counted(data.number, "record")}.`} {data?.words}
        </span>
      </p>
      <Problem error={error} />
      {data && <Table rows={data.rows} number={data.number} onOpen={() => setOn(false)} />}
      {data?.rows.length === 0 && on && (
        <p className="py-2 text-ink2">None yet. An exporter that sends often is heard within half a minute.</p>
      )}
    </>
  );
}

function Kept({ filter, range }: { filter: TrafficFilter; range: { start: string; end: string } }) {
  const { data, error } = useQuery(recordsQuery(filter, range));
  const href = (format: string) =>
    `/api/v1/traffic/records/export?${new URLSearchParams({ ...filter, ...range, format })}`;
  return (
    <>
      <Problem error={error} />
      {data && (
        <p className="py-1 text-small text-ink2">
          {data.number > 0
            ? `${counted(data.number, "record")} of this time were kept.`
            : "No records of this time were kept one by one; their sums are under Totals."}
          {data.number > 0 &&
            (["csv", "parquet"] as const).map((format) => (
              <a key={format} className="ml-2 underline" href={href(format)}>
                {format === "csv" ? "CSV" : "Parquet"}
              </a>
            ))}
        </p>
      )}
      {data && <Table rows={data.rows} number={data.number} />}
    </>
  );
}

const GRID =
  "grid-cols-[64px_minmax(0,1.5fr)_minmax(0,1.5fr)_minmax(0,1fr)_76px_64px_minmax(0,1fr)] max-md:grid-cols-[64px_minmax(0,1fr)_minmax(0,1fr)_70px]";
const WIDE = "max-md:hidden";

type TableProps = {
  rows: FlowRecord[];
  number: number /** One of them is looked at: it should not move away. */;
  onOpen?: () => void;
};

function Table({ rows, number, onOpen }: TableProps) {
  const [open, setOpen] = useState("");
  if (rows.length === 0) return null;
  return (
    <>
      <div className={`grid ${GRID} gap-x-2 border-b border-rule text-small text-ink2`}>
        <span>ended</span>
        <span>from</span>
        <span>to</span>
        <span className={WIDE}>application</span>
        <span className="text-right">volume</span>
        <span className={`text-right ${WIDE}`}>lasted</span>
        <span className={WIDE}>exporter</span>
      </div>
      <ul className="figures text-small">
        {rows.map((row) => {
          const key = keyOf(row);
          return (
            <li key={key} className="border-b border-faint">
              <button
                type="button"
                aria-expanded={open === key}
                className={`grid w-full ${GRID} items-center gap-x-2 py-[4px] text-left hover:bg-lampsoft`}
                onClick={() => {
                  setOpen(open === key ? "" : key);
                  onOpen?.();
                }}
              >
                <span>{clock(new Date(row.end), true)}</span>
                <End end={row.source} />
                <End end={row.destination} />
                <span className={`truncate ${WIDE}`}>
                  {row.application} <span className="text-ink2">{row.service}</span>
                </span>
                <span className="text-right">{text(volume(row.octets))}</span>
                <span className={`text-right text-ink2 ${WIDE}`}>{lasted(row)}</span>
                <span className={`truncate text-ink2 ${WIDE}`}>{row.exporter}</span>
              </button>
              {open === key && <Fields row={row} />}
            </li>
          );
        })}
      </ul>
      {number > rows.length && (
        <p className="py-1 text-small text-ink2">and {(number - rows.length).toLocaleString("en-GB")} earlier ones</p>
      )}
    </>
  );
}

const keyOf = (row: FlowRecord) =>
  [
    row.at,
    row.exporter_id,
    row.input,
    row.source.address,
    row.source.port,
    row.destination.address,
    row.destination.port,
    row.protocol,
    row.direction,
  ].join(" ");

const lasted = (row: FlowRecord) => `${((Date.parse(row.end) - Date.parse(row.start)) / 1000).toFixed(1)} s`;

function End({ end }: { end: FlowRecord["source"] }) {
  return (
    <span className="truncate" title={end.name}>
      {end.address}
      {end.port > 0 && <span className="text-ink2">:{end.port}</span>} <span className="text-ink2">{end.name}</span>
    </span>
  );
}

const endWords = ({ address, port, site, autonomous_system }: FlowRecord["source"]) =>
  `${address} port ${port}, ${site}${autonomous_system ? `, AS${autonomous_system}` : ""}`;

/** Every field of a record. */
function Fields({ row }: { row: FlowRecord }) {
  const fields: [string, string][] = [
    ["began", new Date(row.start).toISOString()],
    ["ended", new Date(row.end).toISOString()],
    ["came", new Date(row.at).toISOString()],
    ["source", endWords(row.source)],
    ["destination", endWords(row.destination)],
    ["protocol", row.protocol],
    ["TCP flags", row.tcp_flags || "none"],
    ["octets", row.octets.toLocaleString("en-GB")],
    ["packets", row.packets.toLocaleString("en-GB")],
    ["sampling", row.sampling > 1 ? `1 in ${row.sampling.toLocaleString("en-GB")}` : "none"],
    ["DSCP", `${row.dscp}, ECN ${row.ecn}`],
    ["came in", `${row.came_in || "an interface that is not known"} (ifIndex ${row.input})`],
    ["went out", `${row.went_out || "an interface that is not known"} (ifIndex ${row.output})`],
    ["direction", row.direction || "not told"],
    ["application", `${row.application}${row.application_id ? `, the exporter says ${row.application_id}` : ""}`],
    ["asks for", row.server_name || "not told"],
    ["exporter", row.exporter],
  ];
  return (
    <dl className="grid grid-cols-[repeat(auto-fill,minmax(250px,1fr))] gap-x-4 bg-lampsoft px-3 py-1">
      {fields.map(([name, value]) => (
        <div key={name} className="flex gap-2">
          <dt className="w-20 shrink-0 text-ink2">{name}</dt>
          <dd className="min-w-0 break-words">{value}</dd>
        </div>
      ))}
    </dl>
  );
}
