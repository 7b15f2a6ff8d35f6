import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import type { Schemas } from "../../api/client";
import { devicePageQuery } from "../../api/queries";
import { useScreenTime } from "../../app/screenTime";
import { usePlace } from "../../app/usePlace";
import { duration, moment } from "../../components/format";
import { Problem } from "../../components/Problem";
import { Severity } from "../../components/Severity";
import { ListHead } from "./ListHead";
import { PagedRows } from "./Rows";
import { useTrail } from "./trail";

type Device = Schemas["DeviceRow"];
const WIDE = "grid-cols-[18px_minmax(100px,1fr)_120px_90px_minmax(120px,1.4fr)_minmax(150px,1.3fr)_60px_64px_48px]";
const REACH: Record<string, string> = { answers: "answers", silent: "does not answer", unknown: "not polled yet" };

/** Devices of a site, the second column of the trail; a full table while nothing is open beside it. */
export function DeviceList({ narrow }: { narrow: boolean }) {
  const { place, name } = usePlace();
  const [search] = useSearchParams();
  const time = useScreenTime();
  const filter = { ...place, words: search.get("words") ?? "" };
  const page = (number: number) => devicePageQuery(time.at, filter, number);
  const { data, error } = useQuery({ ...page(0), placeholderData: keepPreviousData });
  const count = data ? `${data.total.toLocaleString("en")} devices` : "";
  return (
    <div className="flex h-full flex-col">
      <ListHead title={name || "All devices"} count={count} list="devices" />
      <Problem error={error} />
      {data?.total === 0 && <p className="px-3.5 py-2 text-ink2">No matching devices. Clear the search to see all.</p>}
      {!narrow && (
        <div className={`grid ${WIDE} items-center gap-2.5 border-b border-rule px-3.5 py-1 text-small text-ink2`}>
          <span />
          <span>device</span>
          <span>address</span>
          <span>site</span>
          <span>model</span>
          <span>reachability</span>
          <span className="text-right">trip</span>
          <span className="text-right">up for</span>
          <span className="text-right">ports</span>
        </div>
      )}
      <PagedRows
        name={`devices ${name} ${narrow}`}
        total={data?.total ?? 0}
        page={page}
        row={(device) => <DeviceLine device={device} narrow={narrow} />}
      />
      {!narrow && (
        <div className="border-t border-rule px-3.5 py-2">
          <Link to="/setup/add" className="button">
            Add a device
          </Link>
        </div>
      )}
    </div>
  );
}

function DeviceLine({ device, narrow }: { device: Device; narrow: boolean }) {
  const trail = useTrail();
  const silent = device.reach !== "answers";
  const open = trail.isOpen("device", device.id);
  const style = open
    ? "bg-lampsoft font-semibold shadow-[inset_3px_0_var(--lamp)]"
    : "hover:bg-lampsoft focus:bg-lampsoft focus:shadow-[inset_3px_0_var(--lamp)]";
  const mark = device.severity ? <Severity level={device.severity} /> : <span />;
  if (narrow) {
    return (
      <Link
        data-row
        to={trail.thing("device", device.id)}
        className={`grid h-full grid-cols-[18px_minmax(0,1fr)_auto] items-center gap-2 px-3.5 ${style}`}
      >
        {mark}
        <span className="truncate">{device.name}</span>
        <span className="figures font-normal text-ink2">{silent ? REACH[device.reach] : device.ports}</span>
      </Link>
    );
  }
  return (
    <Link
      data-row
      to={trail.thing("device", device.id)}
      className={`figures grid h-full ${WIDE} items-center gap-2.5 border-b border-faint px-3.5 ${style}`}
    >
      {mark}
      <span className="truncate">{device.name}</span>
      <span className="truncate">{device.address}</span>
      <span className="truncate">{device.site}</span>
      <span className="truncate text-ink2">{device.model}</span>
      <span className={`truncate ${device.reach === "silent" ? "text-critical" : ""}`} title={device.reason}>
        {REACH[device.reach]}{" "}
        {silent && device.since && <span className="text-ink2">since {moment(new Date(device.since))}</span>}
      </span>
      <span className="text-right">
        {device.rtt_ms !== null && (
          <>
            {device.rtt_ms.toFixed(1)}
            <span className="unit">ms</span>
          </>
        )}
      </span>
      <span className="text-right">
        {device.started_at && duration((Date.now() - Date.parse(device.started_at)) / 1000)}
      </span>
      <span className="text-right">{device.ports}</span>
    </Link>
  );
}
