import { duration, percent, perSecond, rate, text } from "../../components/format";
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

/** What a card is, in words. */
export function nodeWords(node: Node): string {
  const parts =
    node.kind === "device"
      ? [node.address, node.model, node.site]
      : node.kind === "site"
        ? [`${node.devices} ${node.devices === 1 ? "device" : "devices"}`]
        : [`a network that is not in the inventory, joining ${node.devices} ports`];
  if (node.silent) parts.push(node.kind === "device" ? "does not answer" : `${node.silent} without an answer`);
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
