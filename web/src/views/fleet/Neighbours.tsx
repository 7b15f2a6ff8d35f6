import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { neighboursQuery, portNeighboursQuery } from "../../api/topologyQueries";
import { useScreenTime } from "../../app/screenTime";
import { moment } from "../../components/format";
import { useTrail } from "./trail";

type Neighbour = Schemas["NeighbourOut"];

/** Who is at the other end of a device's ports, as it tells by LLDP. */
export function Neighbours({ device }: { device: number }) {
  const time = useScreenTime();
  const trail = useTrail();
  const { data } = useQuery(neighboursQuery(device, time.at));
  if (!data || (data.rows.length === 0 && !data.problem)) return null;
  return (
    <section aria-label="Neighbours">
      <h2 className="heading mt-3">
        Neighbours{" "}
        <span className="font-normal text-ink2">
          {data.asked_at && time.following && `asked ${moment(new Date(data.asked_at))}, ${data.requests} requests`}
        </span>
      </h2>
      {data.problem && (
        <p className="py-[3px] text-small text-critical">
          It could not be asked the last time: {data.problem}. What is shown is older.
        </p>
      )}
      {data.rows.map((each) => (
        <p
          key={`${each.local_port} ${each.chassis} ${each.port}`}
          className="grid grid-cols-[64px_minmax(0,1fr)] gap-2 border-b border-dotted border-rule py-[3px] text-small"
        >
          {each.interface_id ? (
            <Link className="truncate underline" to={trail.thing("port", each.interface_id)}>
              {each.local_port}
            </Link>
          ) : (
            <span className="truncate">{each.local_port}</span>
          )}
          <Who neighbour={each} />
        </p>
      ))}
    </section>
  );
}

/** Who is at the other end of a port; nothing where nobody tells. */
export function PortNeighbours({ port }: { port: number }) {
  const time = useScreenTime();
  const { data } = useQuery(portNeighboursQuery(port, time.at));
  if (!data?.length) return null;
  return (
    <p className="mb-2" role="note" aria-label="Neighbour">
      At the other end:{" "}
      {data.map((each, place) => (
        <span key={`${each.chassis} ${each.port}`}>
          {place > 0 && "; "}
          <Who neighbour={each} />
        </span>
      ))}
    </p>
  );
}

/** A neighbour by its name and port, which lead to it if it is in the inventory; why it is thought to be that one, on request. */
function Who({ neighbour: each }: { neighbour: Neighbour }) {
  const trail = useTrail();
  const name = each.to_device || each.sys_name || each.chassis;
  const port = each.to_label || each.port;
  return (
    <span title={`${each.chassis_kind} ${each.chassis}, ${each.port_kind} ${each.port}: ${each.reason}`}>
      {each.to_device_id ? (
        <Link className="underline" to={trail.thing("device", each.to_device_id)}>
          {name}
        </Link>
      ) : (
        name
      )}
      {", "}
      {each.to_interface_id ? (
        <Link className="underline" to={trail.thing("port", each.to_interface_id)}>
          {port}
        </Link>
      ) : (
        port
      )}
      {!each.to_device_id && <span className="text-ink2"> · {each.reason}</span>}
    </span>
  );
}
