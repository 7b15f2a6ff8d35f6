import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { layer2Query, layersQuery } from "../../api/topologyQueries";
import { counted, moment } from "../../components/format";
import { useTrail } from "./trail";

/** VLANs, aggregate and spanning-tree role of a port, in a line; nothing where its device tells nothing of that. */
export function PortLayer2({ port }: { port: number }) {
  const trail = useTrail();
  const { data } = useQuery(layer2Query(port));
  if (!data) return null;
  const named = (vlan: number) => [vlan, data.vlans[vlan]].filter(Boolean).join(" ");
  const parts = [
    data.untagged.length > 0 && `untagged VLAN ${data.untagged.map(named).join(", ")}`,
    data.tagged.length > 0 && `tagged VLANs ${data.tagged.map(named).join(", ")}`,
    data.members.length > 0 && `aggregate of ${data.members.join(", ")}`,
    data.stp_role &&
      `${data.stp_role} port of the spanning tree${data.stp_since ? ` since ${moment(new Date(data.stp_since))}` : ""}`,
    data.mtu > 0 && `MTU ${data.mtu.toLocaleString("en-GB")} octets`,
  ].filter(Boolean);
  if (parts.length === 0 && !data.aggregate_id) return null;
  const words = parts.join(" · ");
  const sentence = data.aggregate_id ? words : words.charAt(0).toUpperCase() + words.slice(1);
  return (
    <p className="mb-2" role="note" aria-label="Layer 2">
      {data.aggregate_id && (
        <>
          Member of{" "}
          <Link className="underline" to={trail.thing("port", data.aggregate_id)}>
            {data.aggregate}
          </Link>
          {parts.length > 0 && " · "}
        </>
      )}
      {sentence}
    </p>
  );
}

/** What a device is as a bridge, and the addresses that it has. */
export function DeviceBridge({ device }: { device: number }) {
  const trail = useTrail();
  const { data } = useQuery(layersQuery(device));
  if (!data || (!data.bridge && data.own_addresses.length === 0)) return null;
  const { bridge } = data;
  const vlans = Object.entries(bridge?.vlans ?? {});
  return (
    <section aria-label="Layers 2 and 3" className="text-small">
      <h2 className="heading mt-3">
        Layers 2 and 3 <span className="font-normal text-ink2">{bridge && `asked ${moment(new Date(bridge.at))}`}</span>
      </h2>
      {bridge && (
        <p className="border-b border-dotted border-rule py-[3px]">
          <Link className="underline" to={trail.list({ list: "stations", device: null, words: null })}>
            {counted(bridge.stations, "entry")}
          </Link>{" "}
          in its forwarding table
        </p>
      )}
      {bridge?.root && (
        <p className="border-b border-dotted border-rule py-[3px]">
          Spanning-tree root:{" "}
          {bridge.root_device_id === device ? (
            "this device"
          ) : bridge.root_device_id ? (
            <Link className="underline" to={trail.thing("device", bridge.root_device_id)}>
              {bridge.root_device}
            </Link>
          ) : (
            bridge.root
          )}
          {bridge.root_interface_id && (
            <>
              , by way of{" "}
              <Link className="underline" to={trail.thing("port", bridge.root_interface_id)}>
                {bridge.root_label}
              </Link>
            </>
          )}
          {bridge.root_since && <span className="text-ink2"> since {moment(new Date(bridge.root_since))}</span>}
          {bridge.changes_per_hour !== null && bridge.changes_per_hour >= 1 && (
            <span className="text-ink2"> · {Math.round(bridge.changes_per_hour)} topology changes an hour</span>
          )}
        </p>
      )}
      {vlans.length > 0 && (
        <p className="border-b border-dotted border-rule py-[3px]">
          VLANs {vlans.map(([number, name]) => `${number}${name ? ` ${name}` : ""}`).join(", ")}
        </p>
      )}
      {data.own_addresses.length > 0 && (
        <p className="figures border-b border-dotted border-rule py-[3px] break-words">
          Addresses{" "}
          {data.own_addresses
            .map((each) => `${each.address}${each.prefix === null ? "" : `/${each.prefix}`}`)
            .join(", ")}
        </p>
      )}
    </section>
  );
}
