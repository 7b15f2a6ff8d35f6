import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import type { Schemas } from "../../api/client";
import { stationsQuery, whereIsQuery } from "../../api/topologyQueries";
import { useScreenTime } from "../../app/screenTime";
import { usePlace } from "../../app/usePlace";
import { counted, moment } from "../../components/format";
import { Problem } from "../../components/Problem";
import { ListHead } from "./ListHead";
import { useTrail } from "./trail";

type Place = Schemas["PlaceOut"];
const WIDE =
  "grid-cols-[132px_minmax(0,1fr)_minmax(0,1.2fr)_minmax(0,0.6fr)_110px] max-md:grid-cols-[132px_minmax(0,1fr)]";

/** Who is at which port: MAC addresses at ports that lead to no device of the inventory, with their addresses. */
export function StationList() {
  const { place, name } = usePlace();
  const [search] = useSearchParams();
  const trail = useTrail();
  const time = useScreenTime();
  const words = search.get("words") ?? "";
  const station = search.get("station") ?? "";
  const { data, error } = useQuery({
    ...stationsQuery(time.at, { words, ...(place.site ? { site: place.site } : {}) }),
    placeholderData: keepPreviousData,
  });
  return (
    <div className="flex h-full flex-col">
      <ListHead title={name || "All end stations"} count={data ? counted(data.total, "station") : ""} list="stations" />
      <Problem error={error} />
      <div className="min-h-0 flex-1 overflow-auto">
        {station && <Whereabouts what={station} />}
        {data?.rows.length === 0 && (
          <p className="px-3.5 py-2 text-ink2">
            {words
              ? "No matching stations. Part of a MAC address, of an address or of a port's name is enough."
              : "No stations are known: switches tell of them in their forwarding tables, five minutes after they were added at the latest."}
          </p>
        )}
        <ul>
          {data?.rows.map((row) => (
            <li
              key={`${row.mac} ${row.interface_id}`}
              className={`figures grid ${WIDE} items-center gap-x-2.5 border-b border-faint px-3.5 py-[4px] hover:bg-lampsoft`}
            >
              <Link className="inline-block leading-6 hover:underline" to={trail.stay({ station: row.mac })}>
                {row.mac}
              </Link>
              <span className="truncate" title={row.addresses.join(", ")}>
                {row.addresses.join(", ")}
              </span>
              <Port place={row} />
              <span className="truncate text-ink2">{vlanWords(row)}</span>
              <span className="text-right text-ink2 max-md:text-left">since {moment(new Date(row.since))}</span>
            </li>
          ))}
        </ul>
        {data && data.total > data.rows.length && (
          <p className="px-3.5 py-2 text-ink2">
            The first {data.rows.length.toLocaleString("en-GB")}; search to see others.
          </p>
        )}
      </div>
    </div>
  );
}

const vlanWords = (place: Place) =>
  place.vlan ? `VLAN ${place.vlan}${place.vlan_name ? ` ${place.vlan_name}` : ""}` : "";

function Port({ place }: { place: Place }) {
  const trail = useTrail();
  return (
    <span className="min-w-0 truncate">
      <Link className="font-semibold hover:underline" to={trail.thing("device", place.device_id)}>
        {place.device}
      </Link>{" "}
      <Link className="hover:underline" to={trail.portOf(place.device_id, place.interface_id)}>
        {place.label}
      </Link>
    </span>
  );
}

/** Where one MAC address or address is, since when, and where it was before. */
function Whereabouts({ what }: { what: string }) {
  const time = useScreenTime();
  const trail = useTrail();
  const { data, error } = useQuery(whereIsQuery(time.at, what));
  return (
    <section aria-label={`Where ${what} is`} className="border-b border-rule bg-lampsoft px-3.5 py-2">
      <Problem error={error} />
      <Link className="float-right inline-block min-h-6 underline" to={trail.stay({ station: null })}>
        close
      </Link>
      {data?.length === 0 && <p>Nothing is known of {what} at this time.</p>}
      {data?.map((each) => (
        <div key={each.mac} className="figures">
          <h3 className="heading">
            {each.mac} <span className="font-normal text-ink2">{each.addresses.join(", ")}</span>
          </h3>
          {each.here ? (
            <p>
              is at <Port place={each.here} /> <span className="text-ink2">{vlanWords(each.here)}</span> since{" "}
              {moment(new Date(each.here.since))}
              {each.shared > 0 && (
                <span className="text-ink2">
                  , with {counted(each.shared, "other station")}: what is between is not in the inventory
                </span>
              )}
            </p>
          ) : (
            !each.wireless.some((stay) => !stay.gone_at) && <p>is not seen at any port at this time</p>
          )}
          {each.wireless.map((stay) => (
            <Association key={`${stay.access_point_id} ${stay.since}`} stay={stay} />
          ))}
          {each.before.map((stay) => (
            <p key={`${stay.interface_id} ${stay.since}`} className="text-ink2">
              was at <Port place={stay} /> {vlanWords(stay)} from {moment(new Date(stay.since))}{" "}
              {stay.gone_at && `until ${moment(new Date(stay.gone_at))}`}
            </p>
          ))}
        </div>
      ))}
    </section>
  );
}

/** In which wireless network it is or was, and at which access point. */
function Association({ stay }: { stay: Schemas["ClientOut"] }) {
  const trail = useTrail();
  const point = (
    <Link
      className="underline"
      to={trail.list({ list: "wireless", point: String(stay.access_point_id), station: null, words: null })}
    >
      {stay.access_point}
    </Link>
  );
  const since = moment(new Date(stay.since));
  if (stay.gone_at) {
    return (
      <p className="text-ink2">
        was in {stay.network} at access point {point} from {since} until {moment(new Date(stay.gone_at))}
      </p>
    );
  }
  return (
    <p>
      is in {stay.network} at access point {point}
      <span className="text-ink2">
        {stay.signal_dbm !== null && `, ${stay.signal_dbm} dBm`.replace("-", "−")} since {since}
      </span>
    </p>
  );
}

const MOST_AT_PORT = 12;

/** Who is at a port; nothing where nobody is heard. */
export function PortStations({ port }: { port: number }) {
  const time = useScreenTime();
  const trail = useTrail();
  const { data } = useQuery(stationsQuery(time.at, { interface: port }));
  if (!data?.rows.length) return null;
  const more = data.total - Math.min(data.rows.length, MOST_AT_PORT);
  return (
    <section aria-label="Stations at this port" className="figures mb-2">
      <h2 className="heading">
        {counted(data.total, "station")} <span className="font-normal text-ink2">at this port</span>
      </h2>
      {data.rows.slice(0, MOST_AT_PORT).map((row) => (
        <p key={row.mac} className="border-b border-dotted border-rule py-[3px]">
          <Link
            className="underline"
            to={trail.list({ list: "stations", station: row.mac, device: null, words: null })}
          >
            {row.mac}
          </Link>{" "}
          {row.addresses.join(", ")}{" "}
          <span className="text-ink2">
            {vlanWords(row)} since {moment(new Date(row.since))}
          </span>
        </p>
      ))}
      {more > 0 && <p className="text-ink2">and {more.toLocaleString("en-GB")} more</p>}
    </section>
  );
}
