import { colour } from "../../components/theme";
import { type By, drawMap, type PinnedFigure } from "./drawMap";
import { extent, type MapLink, type Node, strips } from "./mapGeometry";
import { canvasPen, type Pen, svgPen } from "./pen";

const MARGIN = 24;
const FOOT = 26;
const PNG_WIDTH = 2400;

export type Picture = {
  nodes: Node[];
  links: MapLink[];
  by: By;
  title: string;
  pinned?: Map<string, PinnedFigure[]>;
};

/** The area of a whole map, with room for its title below. */
function area(nodes: Node[]) {
  const all = extent(nodes);
  return {
    x: Math.floor(all.x - MARGIN),
    y: Math.floor(all.y - MARGIN),
    width: Math.ceil(all.width + 2 * MARGIN),
    height: Math.ceil(all.height + 2 * MARGIN + FOOT),
  };
}

function draw(pen: Pen, { nodes, links, by, title, pinned }: Picture) {
  const { x, y, width, height } = area(nodes);
  pen.boxes([{ x, y, width, height }], "paper", null);
  const lines = strips(new Map(nodes.map((node) => [node.key, node])), links);
  drawMap(pen, nodes, links, lines, {
    by,
    scale: 1,
    lit: null,
    pickedNode: null,
    pickedLink: null,
    ...(pinned ? { pinned } : {}),
    isSeen: () => true,
  });
  pen.words(title, x + MARGIN, y + height - FOOT, { colour: "ink2", size: 12, align: "left" });
}

/** The whole map as SVG, with its name and time at its foot. */
export function asSvg(picture: Picture): string {
  const { x, y, width, height } = area(picture.nodes);
  const pen = svgPen(colour);
  draw(pen, picture);
  return `<svg xmlns="http://www.w3.org/2000/svg" viewBox="${x} ${y} ${width} ${height}" width="${width}" height="${height}">${pen.body()}</svg>`;
}

/** The whole map as PNG. */
export function asPng(picture: Picture): Promise<Blob> {
  const { x, y, width, height } = area(picture.nodes);
  const canvas = document.createElement("canvas");
  const scale = PNG_WIDTH / width;
  canvas.width = PNG_WIDTH;
  canvas.height = Math.round(height * scale);
  const context = canvas.getContext("2d");
  if (context) {
    context.scale(scale, scale);
    context.translate(-x, -y);
    draw(canvasPen(context, colour), picture);
  }
  return new Promise((resolve, reject) =>
    canvas.toBlob((blob) => (blob ? resolve(blob) : reject(new Error("The picture could not be made."))), "image/png"),
  );
}

/** A file for the reader to keep. */
export function save(content: Blob, name: string) {
  const link = document.createElement("a");
  link.href = URL.createObjectURL(content);
  link.download = name;
  link.click();
  setTimeout(() => URL.revokeObjectURL(link.href), 10_000);
}
