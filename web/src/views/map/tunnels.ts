import type { Schemas } from "../../api/client";
import type { Point } from "./mapGeometry";
import type { Pen, Segment } from "./pen";

export type Tunnel = Schemas["TunnelOut"];
/** A tunnel as a bow between two cards, so that it is told from the links beneath. */
export type Bow = { tunnel: Tunnel; segments: Segment[]; ends: readonly [string, string] };

const STEPS = 14;
const BEND = 0.16;

/** The cards that a tunnel joins: those of its devices, or of their sites. */
export function endsOfTunnel(
  tunnel: Tunnel,
  cards: { has: (key: string) => boolean },
): readonly [string, string] | null {
  const end = (device: number | null, site: number | null) =>
    [`device-${device}`, `site-${site}`].find((key) => cards.has(key));
  const [one, other] = [end(tunnel.device_id, tunnel.site_id), end(tunnel.peer_id, tunnel.peer_site_id)];
  return one && other && one !== other ? [one, other] : null;
}

/** Tunnels as bows; several between the same two cards lie on both sides, further and further out. */
export function bows(tunnels: Tunnel[], cards: Map<string, Point>): Bow[] {
  const counted = new Map<string, number>();
  return tunnels.flatMap((tunnel) => {
    const ends = endsOfTunnel(tunnel, cards);
    const [from, to] = ends ? [cards.get(ends[0]), cards.get(ends[1])] : [];
    if (!ends || !from || !to) return [];
    const key = [...ends].sort().join(" ");
    const place = counted.get(key) ?? 0;
    counted.set(key, place + 1);
    const side = (place % 2 ? -1 : 1) * (1 + Math.floor(place / 2)) * (ends[0] < ends[1] ? 1 : -1);
    return [{ tunnel, ends, segments: bow(from, to, side * BEND) }];
  });
}

/** A quadratic curve in short lines, its middle moved aside by a share of its length. */
function bow(from: Point, to: Point, bend: number): Segment[] {
  const [dx, dy] = [to.x - from.x, to.y - from.y];
  const by = { x: (from.x + to.x) / 2 - 2 * bend * dy, y: (from.y + to.y) / 2 + 2 * bend * dx };
  const at = (share: number) => {
    const rest = 1 - share;
    return [
      rest * rest * from.x + 2 * rest * share * by.x + share * share * to.x,
      rest * rest * from.y + 2 * rest * share * by.y + share * share * to.y,
    ] as const;
  };
  return Array.from({ length: STEPS }, (_, step): Segment => [...at(step / STEPS), ...at((step + 1) / STEPS)]);
}

/** Draw tunnels: those that are up thin, those that are down as strong as what is wrong. */
export function drawTunnels(pen: Pen, drawn: Bow[], scale: number, lit: { nodes: Set<string> } | null) {
  const kinds = [
    { is: ({ up }: Tunnel) => up === true, colour: "ink", width: 1.2, dash: [] as number[] },
    { is: ({ up }: Tunnel) => up === null, colour: "ink3", width: 1.2, dash: [2, 4] },
    { is: ({ up }: Tunnel) => up === false, colour: "critical", width: 2.4, dash: [5, 4] },
  ];
  const isLit = ({ ends }: Bow) => !lit || ends.every((key) => lit.nodes.has(key));
  for (const { is, colour, width, dash } of kinds) {
    const mine = drawn.filter((each) => is(each.tunnel));
    for (const [strong, some] of [
      [false, mine.filter((each) => !isLit(each))],
      [true, mine.filter(isLit)],
    ] as const) {
      const stroke = {
        colour: strong ? colour : "faint",
        width: Math.max(width, 0.8 / scale),
        dash: dash.map((length) => length / Math.min(1, scale)),
      };
      if (some.length)
        pen.lines(
          some.flatMap(({ segments }) => segments),
          stroke,
        );
    }
  }
}
