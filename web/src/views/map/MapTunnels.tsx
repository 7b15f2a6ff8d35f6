import { Link } from "react-router";
import { moment } from "../../components/format";
import type { Node } from "./mapGeometry";
import { endsOfTunnel, type Tunnel } from "./tunnels";

const MOST = 40;

/** The tunnels of the card that was picked, or those that are down. */
export function MapTunnels({ tunnels, nodes, picked }: { tunnels: Tunnel[]; nodes: Node[]; picked: Node | undefined }) {
  const cards = new Set(nodes.map(({ key }) => key));
  const drawn = tunnels.filter((tunnel) => endsOfTunnel(tunnel, cards));
  const mine = picked
    ? drawn.filter((tunnel) => endsOfTunnel(tunnel, cards)?.includes(picked.key))
    : drawn.filter(({ up }) => up === false);
  return (
    <section aria-label="Tunnels" className="mb-3">
      <h2 className="heading">
        Tunnels{" "}
        <span className="font-normal text-ink2">
          {picked
            ? `of ${picked.name}: ${mine.length}`
            : `${drawn.length}, of which ${mine.length || "none"} ${mine.length === 1 ? "is" : "are"} down`}
        </span>
      </h2>
      {tunnels.length === 0 && (
        <p className="py-1 text-ink2">
          No tunnels are known.{" "}
          <Link className="underline" to="/setup/controllers">
            Controllers
          </Link>{" "}
          tell of them.
        </p>
      )}
      <ul className="text-small">
        {mine.slice(0, MOST).map((tunnel) => (
          <li
            key={tunnel.id}
            className="grid grid-cols-[minmax(0,1fr)_auto] gap-x-2 border-b border-dotted border-rule py-[3px]"
          >
            <span className="min-w-0">
              <b className="block truncate font-medium">{tunnel.name}</b>
              <span className="block truncate text-ink2">
                {[tunnel.transport && `over ${tunnel.transport}`, tunnel.port && `at ${tunnel.port}`]
                  .filter(Boolean)
                  .join(", ")}
              </span>
            </span>
            <span className={tunnel.up === false ? "text-critical" : "text-ink2"}>
              {tunnel.up === null
                ? "state not known"
                : tunnel.up
                  ? tunnel.state
                  : `${tunnel.state} since ${moment(new Date(tunnel.since))}`}
            </span>
          </li>
        ))}
      </ul>
      {mine.length > MOST && <p className="text-ink2">and {mine.length - MOST} more</p>}
    </section>
  );
}
