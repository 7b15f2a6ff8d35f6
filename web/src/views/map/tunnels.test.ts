import { expect, test } from "vitest";
import type { Pen } from "./pen";
import { bows, drawTunnels, endsOfTunnel, type Tunnel } from "./tunnels";

const tunnel = (more: Partial<Tunnel> = {}): Tunnel => ({
  id: 1,
  name: "one",
  device_id: 1,
  site_id: 10,
  peer_id: 2,
  peer_site_id: 20,
  interface_id: null,
  port: "",
  transport: "",
  up: true,
  state: "up",
  since: "2026-11-20T10:00:00Z",
  ...more,
});
const DEVICES = new Map([
  ["device-1", { x: 0, y: 0 }],
  ["device-2", { x: 100, y: 0 }],
]);
const SITES = new Map([
  ["site-10", { x: 0, y: 0 }],
  ["site-20", { x: 100, y: 0 }],
]);

test("a tunnel joins the cards of its devices, else those of their sites, and nothing within one card", () => {
  expect(endsOfTunnel(tunnel(), DEVICES)).toEqual(["device-1", "device-2"]);
  expect(endsOfTunnel(tunnel(), SITES)).toEqual(["site-10", "site-20"]);
  expect(endsOfTunnel(tunnel({ peer_site_id: 10 }), SITES)).toBeNull();
  expect(endsOfTunnel(tunnel({ peer_id: null, peer_site_id: null }), DEVICES)).toBeNull();
});

test("several tunnels between two cards bend to different sides, whichever end is told first", () => {
  const made = bows([tunnel(), tunnel({ id: 2 }), tunnel({ id: 3, device_id: 2, peer_id: 1 })], DEVICES);
  const middles = made.map(({ segments }) => Math.round(segments[7]?.[1] ?? 0));
  expect(new Set(middles).size).toBe(3);
  for (const { segments } of made) {
    const [first, last] = [segments[0], segments.at(-1)];
    expect([first?.[0], last?.[2]].toSorted()).toEqual([0, 100]);
    // Each line goes on where the last one ended.
    for (const [place, [x, y]] of segments.slice(1).entries())
      expect([x, y]).toEqual([segments[place]?.[2], segments[place]?.[3]]);
  }
});

test("what is down stands out, and what is not lit is faint", () => {
  const strokes: string[] = [];
  const pen = { lines: (_: unknown, stroke: { colour: string }) => strokes.push(stroke.colour) } as unknown as Pen;
  const drawn = bows([tunnel(), tunnel({ id: 2, up: false }), tunnel({ id: 3, up: null })], DEVICES);
  drawTunnels(pen, drawn, 1, null);
  expect(strokes).toEqual(["ink", "ink3", "critical"]);
  strokes.length = 0;
  drawTunnels(pen, drawn, 1, { nodes: new Set(["device-1"]) });
  expect(strokes).toEqual(["faint", "faint", "faint"]);
});
