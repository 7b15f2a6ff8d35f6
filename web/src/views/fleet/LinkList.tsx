import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useSearchParams } from "react-router";
import type { Schemas } from "../../api/client";
import { linksQuery, strangersQuery } from "../../api/topologyQueries";
import { useScreenTime } from "../../app/screenTime";
import { useMay } from "../../app/session";
import { usePlace } from "../../app/usePlace";
import { counted, moment } from "../../components/format";
import { LoadBar } from "../../components/LoadBar";
import { Problem } from "../../components/Problem";
import { EnterLinks } from "./EnterLinks";
import { ExpectedLinks } from "./ExpectedLinks";
import { ListHead } from "./ListHead";
import { useTrail } from "./trail";

type End = Schemas["EndOut"];
type Row = Schemas["LinkOut"];
const MOST = 1000;
const HOW: Record<string, string> = {
  itself: "a port of its own",
  "both ends": "told by both ends",
  "one end": "told by one end",
  "by hand": "entered by hand",
  "forwarding tables": "follows from forwarding tables",
};
const WIDE = "grid-cols-[minmax(0,1fr)_90px_minmax(0,1fr)_minmax(0,0.9fr)_90px] max-md:grid-cols-[minmax(0,1fr)]";

const wordsOf = ({ a, b }: Row) => [a.device, a.label, a.site, b.device, b.label, b.site].join(" ").toLowerCase();

/** Links between devices, each with both ports, what it carries and how it is known; and who is seen but not in the inventory. */
export function LinkList() {
  const { place, name } = usePlace();
  const [search] = useSearchParams();
  const time = useScreenTime();
  const may = useMay();
  const [entering, setEntering] = useState(false);
  const { data, error } = useQuery({ ...linksQuery(time.at, place), placeholderData: keepPreviousData });
  const asked = (search.get("words") ?? "").toLowerCase().split(/\s+/).filter(Boolean);
  const rows = (data?.rows ?? []).filter((row) => asked.every((word) => wordsOf(row).includes(word)));
  return (
    <div className="flex h-full flex-col">
      <ListHead
        title={name || "All links"}
        count={data ? `${rows.length.toLocaleString("en-GB")} links` : ""}
        list="links"
      />
      <Problem error={error} />
      {entering && <EnterLinks onDone={() => setEntering(false)} />}
      <div className="min-h-0 flex-1 overflow-auto">
        {data && rows.length === 0 && (
          <p className="px-3.5 py-2 text-ink2">
            {data.rows.length
              ? "No matching links. Clear the search to see all."
              : "No links are known yet: devices tell of their neighbours by LLDP, five minutes after they were added at the latest."}
          </p>
        )}
        <ul>
          {rows.slice(0, MOST).map((row) => (
            <Line key={`${key(row.a)} ${key(row.b)}`} row={row} />
          ))}
        </ul>
        {rows.length > MOST && (
          <p className="px-3.5 py-2 text-ink2">The first {MOST.toLocaleString("en-GB")}; search to see others.</p>
        )}
        {time.following && <ExpectedLinks />}
        {data && data.strangers > 0 && <Strangers number={data.strangers} />}
      </div>
      <div className="flex gap-2.5 border-t border-rule px-3.5 py-2 text-small text-ink2">
        all links as
        {["GraphML", "JSON", "CSV"].map((form) => (
          <a
            key={form}
            className="underline"
            href={`/api/v1/links.${form.toLowerCase()}${time.at ? `?at=${encodeURIComponent(time.at)}` : ""}`}
          >
            {form}
          </a>
        ))}
        {may("engineer", true) && (
          <button type="button" className="ml-auto underline" onClick={() => setEntering(true)}>
            enter links by hand
          </button>
        )}
      </div>
    </div>
  );
}

const key = (end: End) => `${end.device_id}.${end.interface_id ?? ""}`;

function Line({ row }: { row: Row }) {
  const { a, b } = row;
  const down = a.is_up === false || b.is_up === false;
  return (
    <li
      className={`figures grid ${WIDE} items-center gap-x-2.5 border-b border-faint px-3.5 py-[5px] hover:bg-lampsoft`}
    >
      <EndOf end={a} />
      <LoadBar inPercent={a.in_percent ?? b.out_percent} outPercent={a.out_percent ?? b.in_percent} down={down} />
      <EndOf end={b} />
      <span className="text-ink2">
        {HOW[row.evidence] ?? row.evidence}
        {row.contradiction && <span className="text-critical">, but {row.contradiction}</span>}
        {down && <span className="text-critical"> · down</span>}
      </span>
      <span className="text-right text-ink2 max-md:text-left">since {moment(new Date(row.since))}</span>
    </li>
  );
}

function EndOf({ end }: { end: End }) {
  const trail = useTrail();
  return (
    <span className="min-w-0 truncate">
      <Link className="font-semibold hover:underline" to={trail.thing("device", end.device_id)}>
        {end.device}
      </Link>{" "}
      {end.interface_id ? (
        <Link className="hover:underline" to={trail.portOf(end.device_id, end.interface_id)}>
          {end.label}
        </Link>
      ) : (
        <span className="text-ink2">port not known</span>
      )}
    </span>
  );
}

/** Neighbours that are not in the inventory: who sees them, and one step to add them. */
function Strangers({ number }: { number: number }) {
  const time = useScreenTime();
  const { data } = useQuery(strangersQuery(time.at));
  return (
    <section aria-label="Not in the inventory" className="px-3.5 py-2">
      <h3 className="heading">
        {counted(number, "neighbour")}{" "}
        <span className="font-normal text-ink2">that {number === 1 ? "is" : "are"} not in the inventory</span>
      </h3>
      {data?.map((each) => (
        <p
          key={`${each.device_id} ${each.local_port} ${each.chassis}`}
          className="border-b border-dotted border-rule py-[3px]"
        >
          {each.sys_name || each.chassis} <span className="text-ink2">port {each.port}</span>, seen by {each.device} at{" "}
          {each.local_port} <span className="text-ink2">· {each.reason}</span>{" "}
          {each.addresses[0] && (
            <Link className="underline" to={`/setup/add?address=${encodeURIComponent(each.addresses[0])}`}>
              add {each.addresses[0]}
            </Link>
          )}
        </p>
      ))}
    </section>
  );
}
