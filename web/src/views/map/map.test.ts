import { describe, expect, it, vi } from "vitest";
import { covering, grown } from "./Background";
import { drawMap, errorRateStep, sparkOf, strokeOf } from "./drawMap";
import { asSvg } from "./mapFile";
import {
  along,
  around,
  CARD,
  distance,
  extent,
  hit,
  laneWidth,
  leaves,
  linkKey,
  type MapLink,
  type Node,
  nextCard,
  strips,
} from "./mapGeometry";
import { svgPen } from "./pen";

vi.mock("../../components/theme", () => ({ colour: (token: string) => `--${token}`, useTheme: () => "light" }));

const node = (key: string, x: number, y: number, more: Partial<Node> = {}): Node => ({
  key,
  kind: "device",
  name: key,
  devices: 1,
  silent: 0,
  members: [],
  networks: {},
  severity: 0,
  site: "",
  address: "",
  model: "",
  serial: "",
  mac: "",
  cells: [],
  is_outside: false,
  x,
  y,
  ...more,
});
const end = (key: string, port: number): MapLink["a"] => ({
  node: key,
  device_id: 1,
  device: key,
  interface_id: port,
  label: "",
  name: `g${port}`,
  severity: 0,
});
const link = (a: string, b: string, more: Partial<MapLink> = {}): MapLink => ({
  a: end(a, 1),
  b: end(b, 2),
  evidence: "both ends",
  contradiction: "",
  since: null,
  lost_at: null,
  entered: null,
  speed_bps: 1e9,
  there: { bps: 9e8, percent: 90 },
  back: { bps: 1e6, percent: 0.1 },
  error_rate: 0,
  state: "up",
  ...more,
});
const A = node("device-1", 0, 0);
const B = node("device-2", 400, 0);
const C = node("device-3", 400, 300);
const at = (nodes: Node[]) => new Map(nodes.map((each) => [each.key, each]));

describe("strips", () => {
  it("has two lanes a link that lie beside each other and go opposite ways", () => {
    const [there, back] = strips(at([A, B]), [link("device-1", "device-2")]);
    expect(there?.from.x).toBe(0);
    expect(back?.from.x).toBe(400);
    expect(Math.abs((there?.from.y ?? 0) - (back?.to.y ?? 0))).toBeGreaterThanOrEqual(there?.width ?? 99);
  });

  it("keeps links between the same two cards apart, whichever end comes first", () => {
    const found = strips(at([A, B]), [link("device-1", "device-2"), link("device-2", "device-1")]);
    const heights = found.map(({ from }) => from.y.toFixed(2));
    expect(new Set(heights).size).toBe(4);
  });

  it("is wider for a faster link, and leaves out what has no card", () => {
    expect(laneWidth(10e9)).toBeGreaterThan(laneWidth(1e9));
    expect(laneWidth(null)).toBeGreaterThan(0);
    expect(strips(at([A]), [link("device-1", "device-2")])).toEqual([]);
  });

  it("fits forty links between two cards into the width of a few", () => {
    const many = strips(
      at([A, B]),
      Array.from({ length: 40 }, () => link("device-1", "device-2")),
    );
    const ys = many.map(({ from }) => from.y);
    expect(Math.max(...ys) - Math.min(...ys)).toBeLessThan(70);
  });
});

describe("what is under the pointer", () => {
  const lines = strips(at([A, B]), [link("device-1", "device-2")]);
  it("is the card, else the link near it, else nothing", () => {
    expect(hit({ x: CARD.width / 2 - 1, y: 0 }, [A, B], lines, 1)).toEqual({ node: "device-1" });
    expect(hit({ x: 200, y: 3 }, [A, B], lines, 1)).toEqual({ link: 0 });
    expect(hit({ x: 200, y: 60 }, [A, B], lines, 1)).toBeNull();
  });
  it("counts the distance to a strip's ends as well", () => {
    const [strip] = lines;
    expect(strip && distance({ x: -30, y: strip.from.y }, strip)).toBeCloseTo(30);
  });
});

describe("going about the map", () => {
  it("goes with the arrows to the card that lies ahead", () => {
    expect(nextCard([A, B, C], A, 1, 0)?.key).toBe("device-2");
    expect(nextCard([A, B, C], B, 0, 1)?.key).toBe("device-3");
    expect(nextCard([A, B, C], A, -1, 0)).toBeUndefined();
    expect(nextCard([A, B, C], null, 1, 0)?.key).toBe("device-1");
  });
  it("knows what is within some links, and which cards are leaves", () => {
    const links = [link("device-1", "device-2"), link("device-2", "device-3")];
    expect([...around(links, "device-1", 1)]).toEqual(["device-1", "device-2"]);
    expect(around(links, "device-1", 2).size).toBe(3);
    expect([...leaves(links)].sort()).toEqual(["device-1", "device-3"]);
  });
  it("finds the links of a way on the map, whichever way round they stand", () => {
    const links = [link("device-1", "device-2"), link("device-2", "device-3", { a: end("device-2", 7) })];
    const turned = { ...link("device-2", "device-1"), a: links[0]?.b ?? end("", 0), b: links[0]?.a ?? end("", 0) };
    expect([...along(links, [turned]).links]).toEqual([0]);
    expect([...along(links, []).nodes]).toEqual([]);
  });
  it("holds all cards in its extent, and names a link by its ends", () => {
    expect(extent([A, C])).toEqual({ x: -52, y: -23, width: 504, height: 346 });
    expect(linkKey(link("device-1", "device-2"))).toBe("device-1.1~device-2.2");
  });
});

describe("how it is drawn", () => {
  const lines = strips(at([A, B]), [link("device-1", "device-2")]);
  const drawn = (nodes: Node[], links: MapLink[], by: "load" | "errors" | "state" = "load", scale = 1) => {
    const pen = svgPen((token) => `--${token}`);
    drawMap(pen, nodes, links, strips(at(nodes), links), {
      by,
      scale,
      lit: null,
      pickedNode: null,
      pickedLink: null,
      isSeen: () => true,
    });
    return pen.body();
  };
  it("has each lane in the colour of its own load, and dots where it is down", () => {
    const [there, back] = lines;
    if (!there || !back) throw new Error("two lanes");
    expect(strokeOf(link("device-1", "device-2"), there, "load").colour).toBe("load4");
    expect(strokeOf(link("device-1", "device-2"), back, "load").colour).toBe("load0");
    expect(strokeOf(link("device-1", "device-2", { state: "down" }), there, "load").dash).toHaveLength(2);
    expect(strokeOf(link("device-1", "device-2", { error_rate: 3 }), there, "errors").colour).toBe("load3");
    expect([0, 0.05, 0.5, 5, 50].map(errorRateStep)).toEqual([0, 1, 2, 3, 4]);
  });
  it("writes names, escapes them, and marks the worst severity with its shape", () => {
    const svg = drawn([node("device-1", 0, 0, { name: "a<b>&", severity: 5 }), B], [link("device-1", "device-2")]);
    expect(svg).toContain("a&lt;b&gt;&amp;");
    expect(svg).toContain("<polygon");
    expect(svg).toContain('stroke="--load4"');
  });
  it("shows ports as cells near, and squares with names far away", () => {
    const full = node("device-1", 0, 0, { cells: [50, -1, -2, -3] });
    expect(drawn([full], [])).toContain('fill="--load2"');
    const far = drawn([full, B], [link("device-1", "device-2")], "load", 0.3);
    expect(far).not.toContain('fill="--load2"');
    expect(far).toContain(">device-2<");
  });
});

describe("a background", () => {
  const cards = { x: 0, y: 0, width: 400, height: 100 };
  it("covers all cards in its own shape, and grows about its middle", () => {
    expect(covering(cards, 200, 200)).toEqual({ x: 0, y: -150, width: 400, height: 400 });
    expect(covering(cards, 800, 100)).toEqual({ x: -200, y: 0, width: 800, height: 100 });
    expect(grown(cards, 2)).toEqual({ x: -200, y: -50, width: 800, height: 200 });
  });
  it("is in the file, beneath everything", () => {
    const background = { ...cards, url: "data:image/png;base64,AAAA" };
    const svg = asSvg({ nodes: [node("device-1", 0, 0)], links: [], by: "load", title: "Sites", background });
    expect(svg.indexOf("<image")).toBeLessThan(svg.indexOf("<rect"));
    expect(svg).toContain('href="data:image/png;base64,AAAA"');
  });
});

describe("pinned figures", () => {
  it("stand beside their card, and a gap in their line is a gap", () => {
    const pen = svgPen((token) => `--${token}`);
    const figures = [{ name: "processor", unit: "%", value: 41.6, line: [10, 20, null, 20, 30] }];
    drawMap(pen, [node("device-1", 0, 0)], [], [], {
      by: "load",
      scale: 1,
      lit: null,
      pickedNode: null,
      pickedLink: null,
      pinned: new Map([["device-1", figures]]),
      isSeen: () => true,
    });
    expect(pen.body()).toContain("processor 42 %");
    expect(sparkOf([10, 20, null, 20, 30], 0, 0, 1)).toHaveLength(2);
    expect(sparkOf([5, 5], 0, 7, 1)).toEqual([[0, 7, 40, 7]]);
    expect(sparkOf([null, null], 0, 0, 1)).toEqual([]);
  });
});
