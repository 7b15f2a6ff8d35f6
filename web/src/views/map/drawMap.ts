import { loadStep } from "../../components/ramp";
import { tokenOf } from "../../components/severities";
import { CARD, type MapLink, type Node, type Strip, WORDS_FROM } from "./mapGeometry";
import type { Box, Pen, Segment, Stroke } from "./pen";
import { type Bow, drawTunnels } from "./tunnels";

export type By = "load" | "errors" | "state";
export type Look = {
  by: By;
  /** How large things are drawn: pixels a unit. */
  scale: number;
  /** The cards and links that are drawn strongly; all of them if there is none. */
  lit: { nodes: Set<string>; links: Set<number> } | null;
  pickedNode: string | null;
  pickedLink: number | null;
  isSeen: (box: Box) => boolean;
  /** Figures that stand beside cards, by their key. */
  pinned?: Map<string, PinnedFigure[]>;
  /** Tunnels over what is drawn. */
  bows?: Bow[];
};
export type PinnedFigure = { name: string; unit: string; value: number | null; line: (number | null)[] };

/** The step of the ramp for errors and discards per second. */
export const errorRateStep = (rate: number) => (rate <= 0 ? 0 : rate < 0.1 ? 1 : rate < 1 ? 2 : rate < 10 ? 3 : 4);
export const ERROR_RATE_STEPS = ["none", "below 0.1 /s", "0.1 – 1 /s", "1 – 10 /s", "10 /s and more"];

/** How one direction of a link is drawn. */
export function strokeOf(link: MapLink, { lane, width }: Strip, by: By): Stroke {
  if (link.state === "down") return { colour: "ink3", width, dash: [width, width * 1.5] };
  if (link.state === "silent") return { colour: "hatch", width, dash: [width * 3, width * 2] };
  if (by === "state") return { colour: link.state === "up" ? "ink3" : "rule", width };
  const value = by === "load" ? link[lane].percent : link.error_rate;
  if (value === null) return { colour: "rule", width: Math.min(width, 1.6) };
  return { colour: `load${by === "load" ? loadStep(value) : errorRateStep(value)}`, width };
}

/** Draw a map: links below, cards above, marks last. */
export function drawMap(pen: Pen, nodes: Node[], links: MapLink[], lines: Strip[], look: Look) {
  drawLinks(pen, links, lines, look);
  if (look.bows) drawTunnels(pen, look.bows, look.scale, look.lit);
  const seen = nodes.filter((node) => look.isSeen(boxOf(node)));
  if (look.scale < WORDS_FROM) drawSquares(pen, seen, links, look);
  else for (const node of seen) drawCard(pen, node, look);
  drawMarks(pen, seen, links, lines, look);
  for (const node of seen) drawPinned(pen, node, look);
}

const boxOf = ({ x, y }: Node): Box => ({
  x: x - CARD.width / 2,
  y: y - CARD.height / 2,
  width: CARD.width,
  height: CARD.height,
});

function drawLinks(pen: Pen, links: MapLink[], lines: Strip[], look: Look) {
  const kinds = new Map<string, { stroke: Stroke; segments: Segment[] }>();
  for (const strip of lines) {
    const link = links[strip.link];
    if (!link) continue;
    const { from, to } = strip;
    const box = {
      x: Math.min(from.x, to.x),
      y: Math.min(from.y, to.y),
      width: Math.abs(from.x - to.x),
      height: Math.abs(from.y - to.y),
    };
    if (!look.isSeen(box)) continue;
    const isLit = !look.lit || look.lit.links.has(strip.link);
    // Beneath tunnels a link is no more than where it is, unless it is down.
    const isStrong = isLit && (!look.bows?.length || link.state !== "up");
    const stroke = isStrong
      ? strokeOf(link, strip, look.by)
      : { colour: isLit ? "rule" : "faint", width: Math.min(strip.width, 1.6) };
    // What is far away keeps a width that can be seen.
    const width = Math.max(stroke.width, 0.8 / look.scale);
    if (strip.link === look.pickedLink) {
      pen.lines([[from.x, from.y, to.x, to.y]], { colour: "lamp", width: width + 5 / Math.max(look.scale, 0.5) });
    }
    const key = `${isLit ? 1 : 0} ${stroke.colour} ${width} ${stroke.dash ?? ""}`;
    const kind = kinds.get(key) ?? { stroke: { ...stroke, width }, segments: [] };
    kind.segments.push([from.x, from.y, to.x, to.y]);
    kinds.set(key, kind);
  }
  for (const [, { stroke, segments }] of [...kinds].sort(([one], [other]) => (one < other ? -1 : 1))) {
    pen.lines(segments, stroke);
  }
}

/** Far away a card is a square, a transport a circle; names stand below where there is room for them. */
function drawSquares(pen: Pen, nodes: Node[], links: MapLink[], look: Look) {
  const side = Math.max(26, 7 / look.scale);
  const kinds = new Map<string, Box[]>();
  for (const node of nodes) {
    const lit = !look.lit || look.lit.nodes.has(node.key);
    const fill = node.key === look.pickedNode ? "lamp" : lit ? "sheet" : "paper";
    const stroke = { colour: fill === "paper" ? "rule" : "ink2", width: 1 / look.scale };
    if (node.kind === "transport") {
      pen.circle(node.x, node.y, side * 0.7, fill, stroke);
      continue;
    }
    const box = { x: node.x - side / 2, y: node.y - side / 2, width: side, height: side };
    const boxes = kinds.get(fill);
    if (boxes) boxes.push(box);
    else kinds.set(fill, [box]);
  }
  for (const [fill, boxes] of kinds) {
    pen.boxes(boxes, fill, { colour: fill === "paper" ? "rule" : "ink2", width: 1 / look.scale });
  }
  drawNames(pen, nodes, links, look, side);
}

const NAME_SIZE = 10.5;
const MOST_NAMES = 200;

/** Names of squares: those in trouble and those with most links first, none across another. */
function drawNames(pen: Pen, nodes: Node[], links: MapLink[], look: Look, side: number) {
  const degree = new Map<string, number>();
  for (const { a, b } of links) for (const end of [a, b]) degree.set(end.node, (degree.get(end.node) ?? 0) + 1);
  const rank = (node: Node) =>
    (node.key === look.pickedNode ? 1e6 : 0) + node.severity * 1e4 + (degree.get(node.key) ?? 0);
  const [high, taken] = [NAME_SIZE / look.scale, new Map<number, [from: number, to: number][]>()];
  const fits = (box: Box) => {
    const rows = [Math.floor(box.y / high), Math.floor((box.y + box.height) / high)];
    const isFree = rows.every((row) =>
      (taken.get(row) ?? []).every(([from, to]) => box.x + box.width < from || box.x > to),
    );
    if (isFree) {
      for (const row of rows) taken.set(row, [...(taken.get(row) ?? []), [box.x, box.x + box.width]]);
    }
    return isFree;
  };
  let left = MOST_NAMES;
  for (const node of nodes.toSorted((one, other) => rank(other) - rank(one))) {
    if (left === 0) return;
    if (look.lit && !look.lit.nodes.has(node.key)) continue;
    const width = node.name.length * high * 0.56;
    const top = node.y + side / 2 + high * 0.3;
    if (!fits({ x: node.x - width / 2, y: top, width, height: high })) continue;
    pen.words(node.name, node.x, top + high / 2, { colour: "ink2", size: high });
    left -= 1;
  }
}

const ROUNDED = 9;

function drawCard(pen: Pen, node: Node, look: Look) {
  const box = boxOf(node);
  const isPicked = node.key === look.pickedNode;
  const isLit = !look.lit || look.lit.nodes.has(node.key);
  const isAside = node.is_outside || node.kind === "transport";
  pen.boxes(
    [box],
    isPicked ? "lampsoft" : "sheet",
    {
      colour: isPicked ? "ink" : isLit ? "ink3" : "rule",
      width: isPicked ? 2 : 1,
      dash: isAside ? [3, 2] : [],
    },
    node.kind === "transport" ? CARD.height / 2 : node.kind === "access points" ? ROUNDED : 0,
  );
  if (node.silent > 0) drawHatch(pen, box);
  const ink = isLit ? "ink" : "ink3";
  const hasCells = node.cells.length > 0;
  pen.words(fitting(node.name, 15), node.x, node.y - 9, { colour: ink, size: 12, bold: true });
  if (hasCells) drawCells(pen, node);
  else pen.words(detail(node), node.x, node.y + 9, { colour: "ink2", size: 10.5 });
}

/** What is said of a card without cells. */
export const detail = (node: Node) =>
  node.kind === "transport"
    ? `joins ${node.devices} ports`
    : node.kind === "device"
      ? node.model || node.address
      : `${node.devices} devices`;

export const fitting = (text: string, most: number) => (text.length > most ? `${text.slice(0, most - 1)}…` : text);

const PITCH = 4;
const ROW = Math.floor((CARD.width - 8) / PITCH);
const ROWS = 3;

/** The ports of a device, or the devices of a site, as cells by their load. */
function drawCells(pen: Pen, node: Node) {
  const wide = node.cells.length <= 12 ? 8 : PITCH;
  const row = Math.min(node.cells.length, Math.floor((CARD.width - 8) / wide), ROW);
  const rows = Math.min(ROWS, Math.ceil(node.cells.length / row));
  const high = rows > 2 ? 5 : 6;
  const left = node.x - (row * wide) / 2;
  const kinds = new Map<string, Box[]>();
  for (const [place, load] of node.cells.slice(0, row * rows).entries()) {
    const key = load === -1 ? "faint" : load === -2 ? "down" : load === -3 ? "critical" : `load${loadStep(load)}`;
    const box = {
      x: left + (place % row) * wide + 0.5,
      y: node.y + 2 + Math.floor(place / row) * (high + 1),
      width: wide - 1,
      height: high,
    };
    kinds.set(key, [...(kinds.get(key) ?? []), box]);
  }
  for (const [key, boxes] of kinds) {
    if (key === "down" || key === "critical" || key === "faint") {
      const inner = boxes.map(({ x, y, width, height }) => ({
        x: x + 0.5,
        y: y + 0.5,
        width: width - 1,
        height: height - 1,
      }));
      pen.boxes(inner, null, { colour: key === "down" ? "ink" : key === "faint" ? "rule" : key, width: 1 });
    } else pen.boxes(boxes, key, null);
  }
}

const PIN = { width: 132, row: 15, line: 40 };

/** Figures of a device beside its card, each with its last two hours; far away they keep a size that can be read. */
function drawPinned(pen: Pen, node: Node, look: Look) {
  const figures = look.pinned?.get(node.key);
  if (!figures?.length) return;
  const isFar = look.scale < WORDS_FROM;
  const unit = isFar ? 0.9 / look.scale : 1;
  const left = node.x + (isFar ? Math.max(26, 7 / look.scale) : CARD.width) / 2 + 3 * unit;
  const top = node.y - (figures.length * PIN.row * unit) / 2;
  const box = { x: left, y: top, width: PIN.width * unit, height: figures.length * PIN.row * unit };
  pen.boxes([box], "sheet", { colour: "rule", width: unit });
  for (const [place, { name, unit: of, value, line }] of figures.entries()) {
    const y = top + (place + 0.5) * PIN.row * unit;
    const words = `${name} ${value === null ? "–" : `${Math.round(value)} ${of}`}`;
    pen.words(words, left + 4 * unit, y, { colour: "ink", size: 10 * unit, align: "left" });
    pen.lines(sparkOf(line, left + (PIN.width - PIN.line - 4) * unit, y, unit), { colour: "ink2", width: unit });
  }
}

/** A line of values as segments; a gap is a gap. */
export function sparkOf(line: (number | null)[], left: number, middle: number, unit: number): Segment[] {
  const known = line.filter((value) => value !== null);
  const [low, high] = [Math.min(...known), Math.max(...known)];
  const x = (place: number) => left + (place / Math.max(1, line.length - 1)) * PIN.line * unit;
  const y = (value: number) => middle + (high > low ? 0.5 - (value - low) / (high - low) : 0) * (PIN.row - 5) * unit;
  return line.slice(1).flatMap((value, place): Segment[] => {
    const before = line[place];
    return value === null || before === null || before === undefined
      ? []
      : [[x(place), y(before), x(place + 1), y(value)]];
  });
}

/** Nobody there answers, or not everybody. */
function drawHatch(pen: Pen, { x, y, width, height }: Box) {
  const segments: Segment[] = [];
  for (let at = 0; at < width + height; at += 7) {
    const [x1, y1] = at < height ? [x, y + at] : [x + at - height, y + height];
    const [x2, y2] = at < width ? [x + at, y] : [x + width, y + at - width];
    segments.push([x1, y1, x2, y2]);
  }
  pen.lines(segments, { colour: "rule", width: 1 });
}

/** Severities at the corners of cards, and in the middle of links that are down. */
function drawMarks(pen: Pen, nodes: Node[], links: MapLink[], lines: Strip[], look: Look) {
  const size = look.scale < WORDS_FROM ? Math.max(11, 7 / look.scale) : 8;
  for (const node of nodes) {
    if (!node.severity) continue;
    const isFar = look.scale < WORDS_FROM;
    drawMark(
      pen,
      node.severity,
      isFar ? node.x : node.x + CARD.width / 2,
      isFar ? node.y : node.y - CARD.height / 2,
      size,
    );
  }
  for (const strip of lines) {
    const link = links[strip.link];
    const severity = Math.max(link?.a.severity ?? 0, link?.b.severity ?? 0);
    if (strip.lane !== "there" || !severity || (look.lit && !look.lit.links.has(strip.link))) continue;
    // Nearer to the end whose port it is.
    const share = (link?.a.severity ?? 0) >= (link?.b.severity ?? 0) ? 0.36 : 0.64;
    const [x, y] = [strip.to.x - strip.from.x, strip.to.y - strip.from.y];
    drawMark(pen, severity, strip.from.x + share * x, strip.from.y + share * y, size);
  }
}

/** The shape of a severity, as everywhere else. */
export function drawMark(pen: Pen, severity: number, x: number, y: number, half: number) {
  const colour = tokenOf(severity);
  const stroke = { colour, width: half / 4 };
  if (severity === 5) {
    pen.figure(
      [
        [x, y - half],
        [x + half, y],
        [x, y + half],
        [x - half, y],
      ],
      colour,
      { colour: "sheet", width: half / 6 },
    );
    pen.boxes(
      [
        { x: x - half / 8, y: y - half / 2, width: half / 4, height: half * 0.6 },
        { x: x - half / 8, y: y + half / 4, width: half / 4, height: half / 4 },
      ],
      "sheet",
      null,
    );
  } else if (severity === 4 || severity === 3) {
    const corners = [
      [x, y - half * 0.85],
      [x + half, y + half * 0.85],
      [x - half, y + half * 0.85],
    ] as const;
    pen.figure(
      corners,
      severity === 4 ? colour : "sheet",
      severity === 4 ? { colour: "sheet", width: half / 6 } : stroke,
    );
  } else if (severity === 2) pen.circle(x, y, half * 0.7, "sheet", stroke);
  else {
    const side = half * 1.3;
    pen.boxes([{ x: x - side / 2, y: y - side / 2, width: side, height: side }], "sheet", stroke);
  }
}
