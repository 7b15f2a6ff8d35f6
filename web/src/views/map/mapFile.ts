import { colour } from "../../components/theme";
import { type By, drawMap, type PinnedFigure } from "./drawMap";
import { type Area, extent, type MapLink, type Node, strips } from "./mapGeometry";
import { canvasPen, type Pen, svgPen } from "./pen";
import { bows, type Tunnel } from "./tunnels";

const MARGIN = 24;
const FOOT = 26;
const PNG_WIDTH = 2400;

export type Picture = {
  nodes: Node[];
  links: MapLink[];
  by: By;
  title: string;
  pinned?: Map<string, PinnedFigure[]>;
  tunnels?: Tunnel[];
  /** A picture beneath everything, by its address or as a data URL. */
  background?: (Area & { url: string }) | null;
};

/** The picture beneath a map as a part of the file: a file has nobody to ask for it. */
export async function withPicture(picture: Picture): Promise<Picture> {
  if (!picture.background) return picture;
  const blob = await (await fetch(picture.background.url)).blob();
  const url = await new Promise<string>((resolve, reject) => {
    const reader = new FileReader();
    reader.onload = () => resolve(String(reader.result));
    reader.onerror = () => reject(new Error("The background could not be read."));
    reader.readAsDataURL(blob);
  });
  return { ...picture, background: { ...picture.background, url } };
}

/** The area of a whole map and what lies beneath it, with room for its title below. */
function area(nodes: Node[], beneath?: Area | null) {
  const all = beneath ? around(extent(nodes), beneath) : extent(nodes);
  return {
    x: Math.floor(all.x - MARGIN),
    y: Math.floor(all.y - MARGIN),
    width: Math.ceil(all.width + 2 * MARGIN),
    height: Math.ceil(all.height + 2 * MARGIN + FOOT),
  };
}

function around(one: Area, other: Area): Area {
  const [x, y] = [Math.min(one.x, other.x), Math.min(one.y, other.y)];
  const [right, below] = [one, other].reduce(
    ([most, lowest], each) => [Math.max(most, each.x + each.width), Math.max(lowest, each.y + each.height)] as const,
    [Number.NEGATIVE_INFINITY, Number.NEGATIVE_INFINITY] as const,
  );
  return { x, y, width: right - x, height: below - y };
}

function draw(pen: Pen, { nodes, links, by, title, pinned, tunnels, background }: Picture) {
  const { x, y, width, height } = area(nodes, background);
  if (!background) pen.boxes([{ x, y, width, height }], "paper", null);
  const cards = new Map(nodes.map((node) => [node.key, node]));
  const lines = strips(cards, links);
  drawMap(pen, nodes, links, lines, {
    by,
    scale: 1,
    lit: null,
    pickedNode: null,
    pickedLink: null,
    ...(pinned ? { pinned } : {}),
    bows: bows(tunnels ?? [], cards),
    isSeen: () => true,
  });
  pen.words(title, x + MARGIN, y + height - FOOT, { colour: "ink2", size: 12, align: "left" });
}

/** The whole map as SVG, with its name and time at its foot. */
export function asSvg(picture: Picture): string {
  const { background } = picture;
  const { x, y, width, height } = area(picture.nodes, background);
  const pen = svgPen(colour);
  draw(pen, picture);
  const beneath = background
    ? `<image href="${background.url}" x="${background.x}" y="${background.y}" width="${background.width}" height="${background.height}" opacity="0.6"/>`
    : "";
  return `<svg xmlns="http://www.w3.org/2000/svg" viewBox="${x} ${y} ${width} ${height}" width="${width}" height="${height}">${beneath}${pen.body()}</svg>`;
}

/** The whole map as PNG. */
export async function asPng(picture: Picture): Promise<Blob> {
  const { background } = picture;
  const { x, y, width, height } = area(picture.nodes, background);
  const canvas = document.createElement("canvas");
  const scale = PNG_WIDTH / width;
  canvas.width = PNG_WIDTH;
  canvas.height = Math.round(height * scale);
  const context = canvas.getContext("2d");
  if (context) {
    context.scale(scale, scale);
    context.translate(-x, -y);
    context.fillStyle = colour("paper");
    context.fillRect(x, y, width, height);
    if (background) {
      const image = new Image();
      image.src = background.url;
      await image.decode();
      context.globalAlpha = 0.6;
      context.drawImage(image, background.x, background.y, background.width, background.height);
      context.globalAlpha = 1;
    }
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
