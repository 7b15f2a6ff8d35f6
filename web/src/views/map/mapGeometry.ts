import type { Schemas } from "../../api/client";

export type Node = Schemas["MapNode"];
export type MapLink = Schemas["MapLinkOut"];
export type NetworkMap = Schemas["MapOut"];
export type Point = { x: number; y: number };
/** One direction of a link as a line, from the card it leaves. */
export type Strip = { link: number; lane: "there" | "back"; from: Point; to: Point; width: number };

export const CARD = { width: 104, height: 46 };
/** Below this scale cards are squares without words. */
export const WORDS_FROM = 0.45;
const SPEEDS: [number, number][] = [
  [100e9, 7],
  [25e9, 5.5],
  [10e9, 4.5],
  [1e9, 3],
  [100e6, 2.2],
];
const SIDE_BY_SIDE = 6;

/** The width of one direction: wider for faster links, in steps that can be told apart. */
export const laneWidth = (bps: number | null) => SPEEDS.find(([speed]) => (bps ?? 0) >= speed)?.[1] ?? 1.6;

/** Every link between the same two cards, in one order for both of them. */
function bundles(links: MapLink[]): number[][] {
  const found = new Map<string, number[]>();
  for (const [index, { a, b }] of links.entries()) {
    const key = [a.node, b.node].sort().join(" ");
    const known = found.get(key);
    if (known) known.push(index);
    else found.set(key, [index]);
  }
  return [...found.values()];
}

/** All links as strips, two a link, side by side where several join the same two cards. */
export function strips(nodes: Map<string, Point>, links: MapLink[]): Strip[] {
  const found: Strip[] = [];
  for (const bundle of bundles(links)) {
    const widths = bundle.map((index) => laneWidth(links[index]?.speed_bps ?? null));
    // Many links would become wider than the cards that they join.
    const shrunk = Math.min(1, SIDE_BY_SIDE / bundle.length);
    const total = widths.reduce((sum, width) => sum + 2 * width + 4, -4) * shrunk;
    const first = links[bundle[0] ?? 0];
    const one = first && nodes.get([first.a.node, first.b.node].sort()[0] ?? "");
    const other = first && nodes.get([first.a.node, first.b.node].sort()[1] ?? "");
    if (!one || !other) continue;
    const length = Math.hypot(other.x - one.x, other.y - one.y) || 1;
    const across = { x: -(other.y - one.y) / length, y: (other.x - one.x) / length };
    let offset = -total / 2;
    for (const [place, index] of bundle.entries()) {
      const link = links[index];
      const width = (widths[place] ?? 1) * shrunk;
      if (!link) continue;
      const lanes = [link.a.node, link.b.node].sort()[0] === link.a.node ? LANES : REVERSED;
      for (const lane of lanes) {
        const shift = offset + width / 2;
        const start = { x: one.x + across.x * shift, y: one.y + across.y * shift };
        const end = { x: other.x + across.x * shift, y: other.y + across.y * shift };
        const forwards = nodes.get(link[lane === "there" ? "a" : "b"].node) === one;
        found.push({ link: index, lane, from: forwards ? start : end, to: forwards ? end : start, width });
        offset += width + (lane === lanes[0] ? 1 : 3) * shrunk;
      }
    }
  }
  return found;
}

const LANES = ["there", "back"] as const;
const REVERSED = ["back", "there"] as const;

/** How far a point is from a strip. */
export function distance(point: Point, { from, to }: Strip): number {
  const [dx, dy] = [to.x - from.x, to.y - from.y];
  const share = ((point.x - from.x) * dx + (point.y - from.y) * dy) / (dx * dx + dy * dy || 1);
  const held = Math.min(1, Math.max(0, share));
  return Math.hypot(point.x - from.x - held * dx, point.y - from.y - held * dy);
}

/** The card at a point, or the link near it, or nothing. */
export function hit(point: Point, nodes: Node[], lines: Strip[], scale: number): Hit | null {
  const reach = Math.max(1, 6 / scale);
  const card = nodes.find(
    (node) =>
      Math.abs(node.x - point.x) <= Math.max(CARD.width / 2, reach) &&
      Math.abs(node.y - point.y) <= Math.max(CARD.height / 2, reach),
  );
  if (card) return { node: card.key };
  let nearest: Strip | null = null;
  let least = reach;
  for (const strip of lines) {
    const away = distance(point, strip) - strip.width / 2;
    if (away < least) [nearest, least] = [strip, away];
  }
  return nearest ? { link: nearest.link } : null;
}

export type Hit = { node: string; link?: undefined } | { link: number; node?: undefined };

/** The next card from one in a direction: the one that lies most straight ahead and near. */
export function nextCard(nodes: Node[], from: Point | null, dx: number, dy: number): Node | undefined {
  if (!from) return nodes[0];
  let best: Node | undefined;
  let least = Number.POSITIVE_INFINITY;
  for (const node of nodes) {
    const ahead = (node.x - from.x) * dx + (node.y - from.y) * dy;
    const aside = Math.abs((node.x - from.x) * dy - (node.y - from.y) * dx);
    if (ahead <= 1) continue;
    const cost = ahead + 2 * aside;
    if (cost < least) [best, least] = [node, cost];
  }
  return best;
}

/** The rectangle that holds all cards. */
/** A part of a map, in its own pixels. */
export type Area = { x: number; y: number; width: number; height: number };

export function extent(nodes: Node[]): Area {
  const [xs, ys] = [nodes.map((node) => node.x), nodes.map((node) => node.y)];
  const [left, top] = [Math.min(...xs) - CARD.width / 2, Math.min(...ys) - CARD.height / 2];
  return {
    x: left,
    y: top,
    width: Math.max(...xs) + CARD.width / 2 - left,
    height: Math.max(...ys) + CARD.height / 2 - top,
  };
}

/** A link's own key in the address: its ends. */
export const linkKey = ({ a, b }: MapLink) => [a, b].map((end) => `${end.node}.${end.interface_id ?? ""}`).join("~");

/** The places of those links on a map that are part of a way, whichever way round, and the cards that they join. */
export function along(links: MapLink[], way: MapLink[]): { nodes: Set<string>; links: Set<number> } {
  const wanted = new Set(way.map(portsOf));
  const places = links.flatMap((link, place) => (wanted.has(portsOf(link)) ? [place] : []));
  const ends = places.flatMap((place) => [links[place]?.a.node ?? "", links[place]?.b.node ?? ""]);
  return { nodes: new Set(ends), links: new Set(places) };
}

const portsOf = ({ a, b }: MapLink) =>
  [a, b]
    .map((end) => `${end.device_id ?? end.device}.${end.interface_id ?? ""}`)
    .sort()
    .join(" ");

/** The cards that are within so many links of one. */
export function around(links: MapLink[], key: string, depth: number): Set<string> {
  const found = new Set([key]);
  for (let step = 0; step < depth; step++) {
    const more = links.flatMap(({ a, b }) => (found.has(a.node) ? [b.node] : found.has(b.node) ? [a.node] : []));
    for (const node of more) found.add(node);
  }
  return found;
}

/** Cards on which nothing else hangs: those joined to one other alone. */
export function leaves(links: MapLink[]): Set<string> {
  const joined = new Map<string, Set<string>>();
  for (const { a, b } of links) {
    for (const [one, other] of [
      [a.node, b.node],
      [b.node, a.node],
    ] as const) {
      joined.set(one, (joined.get(one) ?? new Set()).add(other));
    }
  }
  return new Set([...joined].filter(([, others]) => others.size === 1).map(([node]) => node));
}
