import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { retiredQuery } from "../../api/setupQueries";
import { moment } from "../../components/format";
import { Problem } from "../../components/Problem";

/** Devices that are polled no more; each page restores or deletes its own. */
export function Retired() {
  const { data, error } = useQuery(retiredQuery);
  return (
    <div className="max-w-[860px]">
      <h1 className="text-title font-semibold tracking-tight">Retired devices</h1>
      <p className="mb-2 text-ink2">
        {data?.total === 0
          ? "No retired devices. A device is retired on its own page; its history is kept."
          : "No longer polled; their history is kept. Open one to restore it or to delete it permanently."}
      </p>
      <Problem error={error} />
      <ul className="border-t border-rule">
        {data?.rows.map((device) => (
          <li
            key={device.id}
            className="figures grid grid-cols-[180px_160px_120px_minmax(0,1fr)] gap-3 border-b border-faint py-1.5"
          >
            <Link data-row to={`/fleet/device/${device.id}`} className="truncate font-medium hover:underline">
              {device.name}
            </Link>
            <span className="truncate text-ink2">{device.address}</span>
            <span className="truncate text-ink2">{device.site}</span>
            <span className="truncate text-ink2">
              {device.answered_at ? `last answer ${moment(new Date(device.answered_at))}` : "never answered"}
            </span>
          </li>
        ))}
      </ul>
    </div>
  );
}
