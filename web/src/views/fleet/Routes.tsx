import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { routesQuery } from "../../api/topologyQueries";
import { useScreenTime } from "../../app/screenTime";
import { counted, moment } from "../../components/format";
import { Problem } from "../../components/Problem";
import { useTyped } from "../../components/useTyped";
import { useTrail } from "./trail";

const SHOWN = 12;

/** Where a device sends packets; by an address only the routes that a packet to it follows. */
export function DeviceRoutes({ device }: { device: number }) {
  const time = useScreenTime();
  const [to, setTo] = useState("");
  const [isWhole, setWhole] = useState(false);
  const typed = useTyped(to.trim());
  const { data, error } = useQuery(routesQuery(device, time.at, typed));
  if (!data?.total && !typed) return null;
  const rows = isWhole ? data?.rows : data?.rows.slice(0, SHOWN);
  return (
    <section aria-label="Routes" className="text-small">
      <h2 className="heading mt-3">
        Routes <span className="font-normal text-ink2">{data?.total.toLocaleString("en-GB")}</span>
      </h2>
      <label className="flex items-baseline gap-2 py-[3px]">
        <span className="text-ink2">a packet to</span>
        <input
          type="search"
          className="figures min-w-0 grow border-b border-rule bg-transparent px-1 outline-none focus:border-ink"
          placeholder="an address"
          value={to}
          onChange={(event) => setTo(event.target.value)}
        />
      </label>
      <Problem error={error} />
      {!error && rows?.map((row) => <RouteLine key={`${row.network} ${row.next_hop} ${row.interface_id}`} row={row} />)}
      {!error && typed && data?.rows.length === 0 && <p className="text-critical">No route leads there.</p>}
      {!error && data && data.rows.length > SHOWN && !isWhole && (
        <button type="button" className="min-h-6 underline" onClick={() => setWhole(true)}>
          all {counted(data.rows.length, "route")}
        </button>
      )}
    </section>
  );
}

function RouteLine({ row }: { row: Schemas["RouteOut"] }) {
  const trail = useTrail();
  const told = [row.protocol, row.metric >= 0 && row.next_hop && `metric ${row.metric}`].filter(Boolean).join(", ");
  return (
    <p
      className="figures grid grid-cols-[minmax(0,1fr)_minmax(0,1.3fr)] gap-2 border-b border-dotted border-rule py-[3px]"
      title={`since ${moment(new Date(row.since))}`}
    >
      <span className="break-words">{row.network}</span>
      <span className="break-words">
        {row.is_discarding ? (
          <b className="font-medium">dropped</b>
        ) : row.device_id ? (
          <>
            <Link className="underline" to={trail.thing("device", row.device_id)}>
              {row.device}
            </Link>{" "}
            {row.next_hop}
          </>
        ) : (
          row.next_hop
        )}
        {row.interface_id && (
          <>
            {row.next_hop && " over "}
            <Link className="underline" to={trail.thing("port", row.interface_id)}>
              {row.label || "an interface"}
            </Link>
          </>
        )}{" "}
        <span className="text-ink2">{told}</span>
      </span>
    </p>
  );
}
