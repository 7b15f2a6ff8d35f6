import { counted, duration, percent, perSecond, rate, text } from "../../components/format";
import { Severity } from "../../components/Severity";
import { SEVERITIES } from "../../components/severities";
import { FigureWords } from "./DeviceFigures";
import type { MapLink, Node, Point } from "./mapGeometry";

/** What a link is, in one line: its ends. */
export const endsOf = ({ a, b }: MapLink) => `${endName(a)} – ${endName(b)}`;
const endName = ({ device, name, label }: MapLink["a"]) => [device, name || label].filter(Boolean).join(" ");

/** What goes one way, as a rate and a share. */
export const laneWords = ({ bps, percent: share }: MapLink["there"]) =>
  bps === null ? "not measured" : `${text(rate(bps))}${share === null ? "" : `, ${percent(share)} %`}`;

export const STATES: Record<MapLink["state"], string> = {
  up: "up",
  down: "down",
  silent: "no answer from either end",
  unknown: "state not known",
};

/** How a link is known. */
export const EVIDENCE: Record<MapLink["evidence"], string> = {
  "both ends": "LLDP at both ends",
  "one end": "LLDP at one end",
  "by hand": "entered by hand",
  "forwarding tables": "follows from forwarding tables",
  transport: "port of the transport's group",
};

/** What is under the pointer. */
export function MapHover({ node, link, at, width }: { node?: Node; link?: MapLink; at: Point; width: number }) {
  if (!node && !link) return null;
  const right = at.x > width / 2;
  return (
    <div
      className="figures pointer-events-none absolute z-10 max-w-[300px] border border-ink bg-sheet px-2.5 py-1.5 text-small"
      style={{ top: at.y + 14, ...(right ? { right: width - at.x + 12 } : { left: at.x + 12 }) }}
    >
      {node ? <NodeWords node={node} /> : link && <LinkWords link={link} />}
    </div>
  );
}

function NodeWords({ node }: { node: Node }) {
  return (
    <>
      <b className="flex items-center gap-1.5 font-semibold">
        {node.severity > 0 && <Severity level={node.severity} size="12" />}
        {node.name}
      </b>
      <span className="block text-ink2">{nodeWords(node)}</span>
      {node.kind === "device" && <FigureWords device={Number(node.key.split("-")[1])} />}
    </>
  );
}

const OF_KIND: Record<Node["kind"], (node: Node) => string[]> = {
  device: ({ address, model, site }) => [address, model, site],
  site: ({ devices }) => [counted(devices, "device")],
  transport: ({ devices }) => [`a network that is not in the inventory, joining ${devices} ports`],
  "access points": ({ networks }) =>
    Object.entries(networks).map(([name, clients]) => `${name}: ${counted(clients, "client")}`),
};
const SILENT: Record<Node["kind"], (number: number) => string> = {
  device: () => "does not answer",
  site: (number) => `${number} without an answer`,
  transport: (number) => `${number} without an answer`,
  "access points": (number) => `${number} not joined to the controller`,
};

/** What a card is, in words. */
export function nodeWords(node: Node): string {
  const parts = OF_KIND[node.kind](node);
  if (node.silent) parts.push(SILENT[node.kind](node.silent));
  if (node.severity) parts.push(`worst alarm ${SEVERITIES[node.severity]?.word ?? ""}`);
  return parts.filter(Boolean).join(" · ");
}

function LinkWords({ link }: { link: MapLink }) {
  const since = link.since ? `, ${duration((Date.now() - Date.parse(link.since)) / 1000)}` : "";
  return (
    <>
      <b className="block font-semibold">{endsOf(link)}</b>
      <span className="block text-ink2">
        {[link.speed_bps ? text(rate(link.speed_bps)) : "", STATES[link.state]].filter(Boolean).join(", ")}
      </span>
      <span className="block text-ink2">→ {laneWords(link.there)}</span>
      <span className="block text-ink2">← {laneWords(link.back)}</span>
      <span className="block text-ink2">
        {link.error_rate ? `${perSecond(link.error_rate)} errors and discards /s` : "no errors"} ·{" "}
        {EVIDENCE[link.evidence]}
        {since}
      </span>
    </>
  );
}
