import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import type { Schemas } from "../../api/client";
import { poweredQuery } from "../../api/topologyQueries";
import { useScreenTime } from "../../app/screenTime";
import { usePlace } from "../../app/usePlace";
import { counted } from "../../components/format";
import { Problem } from "../../components/Problem";
import { ListHead } from "./ListHead";
import { useTrail } from "./trail";

/** Who takes power over Ethernet: ports that deliver it, and what is plugged in there. */
export function PoweredList() {
  const { place, name } = usePlace();
  const [search] = useSearchParams();
  const time = useScreenTime();
  const trail = useTrail();
  const words = search.get("words") ?? "";
  const { data, error } = useQuery({
    ...poweredQuery(time.at, { words, ...(place.site ? { site: place.site } : {}) }),
    placeholderData: keepPreviousData,
  });
  return (
    <div className="flex h-full flex-col">
      <ListHead
        title={name || "All ports"}
        count={data ? `${counted(data.length, "port")} giving power` : ""}
        list="power"
      />
      <Problem error={error} />
      <div className="min-h-0 flex-1 overflow-auto">
        {data?.length === 0 && (
          <p className="px-3.5 py-2 text-ink2">
            {words
              ? "No matching ports."
              : "No port delivers power over Ethernet, or none of the devices tells of it (POWER-ETHERNET-MIB)."}
          </p>
        )}
        <ul>
          {data?.map((row) => (
            <li
              key={row.interface_id}
              className="figures grid grid-cols-[minmax(0,1fr)_minmax(0,1.5fr)] items-center gap-x-2.5 border-b border-faint px-3.5 py-[4px] hover:bg-lampsoft"
            >
              <span className="truncate">
                <Link
                  className="inline-block leading-6 font-semibold hover:underline"
                  to={trail.thing("device", row.device_id)}
                >
                  {row.device}
                </Link>{" "}
                <Link
                  className="inline-block leading-6 hover:underline"
                  to={trail.portOf(row.device_id, row.interface_id)}
                >
                  {row.label}
                </Link>
              </span>
              <Consumer row={row} />
            </li>
          ))}
        </ul>
      </div>
    </div>
  );
}

/** What is plugged in at a port that gives power, as far as it is known. */
function Consumer({ row }: { row: Schemas["PoweredPortOut"] }) {
  const trail = useTrail();
  const macs = Object.entries(row.macs);
  const named = [row.neighbour, row.access_point && `access point ${row.access_point}`].filter(Boolean).join(", ");
  return (
    <span className="truncate text-ink2">
      {named && <span className="text-ink">{named} </span>}
      {macs.slice(0, 2).map(([mac, addresses]) => (
        <span key={mac}>
          <Link
            className="inline-block leading-6 hover:underline"
            to={trail.list({ list: "stations", station: mac, words: null })}
          >
            {mac}
          </Link>{" "}
          {addresses.join(", ")}{" "}
        </span>
      ))}
      {macs.length > 2 && `and ${macs.length - 2} more`}
      {!named && macs.length === 0 && "nothing is heard there"}
    </span>
  );
}
