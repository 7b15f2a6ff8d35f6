import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import type { Schemas } from "../../api/client";
import { accessPointsQuery, wirelessClientsQuery } from "../../api/topologyQueries";
import { useScreenTime } from "../../app/screenTime";
import { usePlace } from "../../app/usePlace";
import { counted, moment } from "../../components/format";
import { Problem } from "../../components/Problem";
import { ListHead } from "./ListHead";
import { useTrail } from "./trail";

type Point = Schemas["AccessPointOut"];
const WIDE =
  "grid-cols-[minmax(90px,0.6fr)_minmax(0,1fr)_minmax(0,1.2fr)_110px] max-md:grid-cols-[minmax(90px,0.6fr)_minmax(0,1fr)]";

/** Access points with the ports that they are plugged in at, and how many clients each network has there. */
export function WirelessList() {
  const { place, name } = usePlace();
  const [search] = useSearchParams();
  const time = useScreenTime();
  const words = search.get("words") ?? "";
  const network = search.get("network") ?? "";
  const { data, error } = useQuery({
    ...accessPointsQuery(time.at, { words, network, ...(place.site ? { site: place.site } : {}) }),
    placeholderData: keepPreviousData,
  });
  const point = data?.rows.find((row) => row.id === Number(search.get("point")));
  return (
    <div className="flex h-full flex-col">
      <ListHead
        title={name || "All access points"}
        count={data ? counted(data.rows.length, "access point") : ""}
        list="wireless"
      />
      <Problem error={error} />
      <div className="min-h-0 flex-1 overflow-auto">
        {data && data.networks.length > 0 && <Networks networks={data.networks} chosen={network} />}
        {point && <ClientsOf point={point} />}
        {data?.rows.length === 0 && (
          <p className="px-3.5 py-2 text-ink2">
            {words || network
              ? "No matching access points."
              : "No access points are known. Controllers tell of them in tables of their makers’ own: name the columns in the profile of yours."}
          </p>
        )}
        <ul>
          {data?.rows.map((row) => (
            <PointLine key={row.id} row={row} />
          ))}
        </ul>
      </div>
    </div>
  );
}

function Networks({ networks, chosen }: { networks: Schemas["NetworkOut"][]; chosen: string }) {
  const trail = useTrail();
  return (
    <nav
      aria-label="Wireless networks"
      className="figures flex flex-wrap gap-x-3 border-b border-faint px-3.5 py-[5px]"
    >
      {networks.map(({ name, clients }) => (
        <span key={name}>
          <Link
            className={`inline-block leading-6 ${name === chosen ? "marked px-1" : "hover:underline"}`}
            to={trail.stay({ network: name === chosen ? null : name })}
          >
            {name}
          </Link>{" "}
          <span className="text-ink2">{counted(clients, "client")}</span>{" "}
          <Link
            className="inline-block leading-6 underline"
            to={`/map?show=devices&part=wireless-${encodeURIComponent(name)}`}
          >
            map
          </Link>
        </span>
      ))}
    </nav>
  );
}

const networkWords = ({ networks }: Point) => networks.map(({ name, clients }) => `${name} ${clients}`).join(" · ");

function PointLine({ row }: { row: Point }) {
  const trail = useTrail();
  return (
    <li
      className={`figures grid ${WIDE} items-center gap-x-2.5 border-b border-faint px-3.5 py-[4px] hover:bg-lampsoft`}
    >
      {row.device_id ? (
        <Link
          className="inline-block truncate leading-6 font-semibold hover:underline"
          to={trail.thing("device", row.device_id)}
        >
          {row.name}
        </Link>
      ) : (
        <Link
          className="inline-block truncate leading-6 font-semibold hover:underline"
          to={trail.stay({ point: String(row.id) })}
        >
          {row.name}
        </Link>
      )}
      <span className="truncate">
        {row.plugged_in ? <PluggedIn at={row.plugged_in} /> : <span className="text-ink2">port not known</span>}
      </span>
      <span className="truncate text-ink2" title={networkWords(row)}>
        {row.is_up === false ? (
          <b className="font-medium text-critical">not joined to {row.controller}</b>
        ) : (
          networkWords(row) || "no clients"
        )}
      </span>
      <span className="text-right text-ink2 max-md:text-left">since {moment(new Date(row.changed_at))}</span>
    </li>
  );
}

function PluggedIn({ at }: { at: NonNullable<Point["plugged_in"]> }) {
  const trail = useTrail();
  return (
    <>
      <Link className="hover:underline" to={trail.thing("device", at.device_id)}>
        {at.device}
      </Link>{" "}
      <Link className="hover:underline" to={trail.portOf(at.device_id, at.interface_id)}>
        {at.label}
      </Link>
    </>
  );
}

/** Who is at an access point, the weakest signal first. */
function ClientsOf({ point }: { point: Point }) {
  const time = useScreenTime();
  const trail = useTrail();
  const { data, error } = useQuery(wirelessClientsQuery(time.at, { access_point: point.id }));
  return (
    <section aria-label={`Clients of ${point.name}`} className="border-b border-rule bg-lampsoft px-3.5 py-2">
      <Problem error={error} />
      <Link className="float-right inline-block min-h-6 underline" to={trail.stay({ point: null })}>
        close
      </Link>
      <h3 className="heading">
        {point.name}{" "}
        <span className="font-normal text-ink2">
          {[point.model, point.address, point.mac, `of ${point.controller}`].filter(Boolean).join(" · ")}
        </span>
      </h3>
      {data && <p>{data.total ? `${counted(data.total, "client")}, the weakest signal first` : "No clients."}</p>}
      <ul className="figures max-h-64 overflow-auto">
        {data?.rows.map((row) => (
          <li
            key={row.mac}
            className="grid grid-cols-[132px_110px_minmax(0,1fr)_70px_110px] items-center gap-x-2 py-[2px] max-md:grid-cols-[132px_minmax(0,1fr)]"
          >
            <Link
              className="inline-block leading-6 hover:underline"
              to={trail.list({ list: "stations", station: row.mac, point: null, words: null })}
            >
              {row.mac}
            </Link>
            <span>{row.address}</span>
            <span className="truncate text-ink2">{row.network}</span>
            <span className="text-right">
              {row.signal_dbm === null ? "" : `${row.signal_dbm} dBm`.replace("-", "−")}
            </span>
            <span className="text-right text-ink2">since {moment(new Date(row.since))}</span>
          </li>
        ))}
      </ul>
    </section>
  );
}

/** The access point at a port; nothing where there is none. */
export function PortAccessPoint({ port }: { port: number }) {
  const time = useScreenTime();
  const trail = useTrail();
  const { data } = useQuery(accessPointsQuery(time.at, { interface: port }));
  if (!data?.rows.length) return null;
  return data.rows.map((row) => (
    <p key={row.id} className="mb-2" role="note" aria-label="Access point">
      Access point{" "}
      <Link
        className="underline"
        to={trail.list({ list: "wireless", point: String(row.id), device: null, words: null })}
      >
        {row.name}
      </Link>
      :{" "}
      {row.is_up === false
        ? `not joined to ${row.controller} since ${moment(new Date(row.changed_at))}`
        : networkWords(row) || "no clients"}
    </p>
  ));
}

/** How many access points and clients a controller has; nothing where it has none. */
export function DeviceWireless({ device }: { device: number }) {
  const time = useScreenTime();
  const trail = useTrail();
  const { data } = useQuery(accessPointsQuery(time.at, { device }));
  if (!data?.rows.length) return null;
  const gone = data.rows.filter((row) => row.is_up === false);
  const totals = new Map<string, number>();
  for (const { networks } of data.rows)
    for (const { name, clients } of networks) totals.set(name, (totals.get(name) ?? 0) + clients);
  return (
    <section aria-label="Wireless" className="text-small">
      <h2 className="heading mt-3">Wireless</h2>
      <p className="border-b border-dotted border-rule py-[3px]">
        <Link className="underline" to={trail.list({ list: "wireless", device: null, words: null, site: null })}>
          {counted(data.rows.length, "access point")}
        </Link>
        {gone.length > 0 && (
          <b className="font-medium text-critical">, not joined: {gone.map((row) => row.name).join(", ")}</b>
        )}
      </p>
      {[...totals].map(([name, clients]) => (
        <p key={name} className="flex justify-between gap-2 border-b border-dotted border-rule py-[3px]">
          {name} <span className="text-ink2">{counted(clients, "client")}</span>
        </p>
      ))}
    </section>
  );
}
