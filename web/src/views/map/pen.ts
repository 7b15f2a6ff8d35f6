/** What a map is drawn with: the same strokes on a canvas and as SVG. Colours are tokens of the theme. */
export type Stroke = { colour: string; width: number; dash?: number[] };
export type Box = { x: number; y: number; width: number; height: number };
export type Words = { colour: string; size: number; bold?: boolean; align?: "left" | "center" | "right" };
export type Segment = readonly [x1: number, y1: number, x2: number, y2: number];

export type Pen = {
  /** Lines of one kind; together they are one path. */
  lines: (segments: Segment[], stroke: Stroke) => void;
  boxes: (boxes: Box[], fill: string | null, stroke: Stroke | null, radius?: number) => void;
  /** A closed figure. */
  figure: (points: readonly (readonly [number, number])[], fill: string | null, stroke: Stroke | null) => void;
  circle: (x: number, y: number, radius: number, fill: string | null, stroke: Stroke | null) => void;
  words: (text: string, x: number, y: number, how: Words) => void;
};

const FONT = '"Commissioner Variable", sans-serif';

/** A pen on a canvas. Each colour is looked up once. */
export function canvasPen(context: CanvasRenderingContext2D, colour: (token: string) => string): Pen {
  const known = new Map<string, string>();
  const of = (token: string) => {
    let value = known.get(token);
    if (value === undefined) {
      value = colour(token);
      known.set(token, value);
    }
    return value;
  };
  const finish = (fill: string | null, stroke: Stroke | null) => {
    if (fill) {
      context.fillStyle = of(fill);
      context.fill();
    }
    if (stroke) {
      context.strokeStyle = of(stroke.colour);
      context.lineWidth = stroke.width;
      context.setLineDash(stroke.dash ?? []);
      context.stroke();
    }
  };
  return {
    lines(segments, stroke) {
      context.beginPath();
      for (const [x1, y1, x2, y2] of segments) {
        context.moveTo(x1, y1);
        context.lineTo(x2, y2);
      }
      finish(null, stroke);
    },
    boxes(boxes, fill, stroke, radius = 0) {
      context.beginPath();
      for (const { x, y, width, height } of boxes) {
        if (radius) context.roundRect(x, y, width, height, radius);
        else context.rect(x, y, width, height);
      }
      finish(fill, stroke);
    },
    figure(points, fill, stroke) {
      context.beginPath();
      for (const [x, y] of points) context.lineTo(x, y);
      context.closePath();
      finish(fill, stroke);
    },
    circle(x, y, radius, fill, stroke) {
      context.beginPath();
      context.arc(x, y, radius, 0, 2 * Math.PI);
      finish(fill, stroke);
    },
    words(text, x, y, { colour: token, size, bold, align = "center" }) {
      context.font = `${bold ? "600 " : ""}${size}px ${FONT}`;
      context.fillStyle = of(token);
      context.textAlign = align;
      context.textBaseline = "middle";
      context.fillText(text, x, y);
    },
  };
}

const escaped = (text: string) =>
  text.replace(/[&<>"]/g, (letter) => ({ "&": "&amp;", "<": "&lt;", ">": "&gt;", '"': "&quot;" })[letter] ?? letter);
const short = (value: number) => Number(value.toFixed(1));

/** A pen that writes SVG; ``body`` is what was drawn. */
export function svgPen(colour: (token: string) => string): Pen & { body: () => string } {
  const parts: string[] = [];
  const style = (fill: string | null, stroke: Stroke | null) =>
    `fill="${fill ? colour(fill) : "none"}"${
      stroke
        ? ` stroke="${colour(stroke.colour)}" stroke-width="${short(stroke.width)}"${
            stroke.dash?.length ? ` stroke-dasharray="${stroke.dash.join(" ")}"` : ""
          }`
        : ""
    }`;
  return {
    lines(segments, stroke) {
      if (!segments.length) return;
      const path = segments.map(([x1, y1, x2, y2]) => `M${short(x1)} ${short(y1)}L${short(x2)} ${short(y2)}`).join("");
      parts.push(`<path d="${path}" ${style(null, stroke)}/>`);
    },
    boxes(boxes, fill, stroke, radius = 0) {
      for (const { x, y, width, height } of boxes) {
        parts.push(
          `<rect x="${short(x)}" y="${short(y)}" width="${short(width)}" height="${short(height)}" rx="${radius}" ${style(fill, stroke)}/>`,
        );
      }
    },
    figure(points, fill, stroke) {
      parts.push(
        `<polygon points="${points.map(([x, y]) => `${short(x)},${short(y)}`).join(" ")}" ${style(fill, stroke)}/>`,
      );
    },
    circle(x, y, radius, fill, stroke) {
      parts.push(`<circle cx="${short(x)}" cy="${short(y)}" r="${radius}" ${style(fill, stroke)}/>`);
    },
    words(text, x, y, { colour: token, size, bold, align = "center" }) {
      const anchor = { left: "start", center: "middle", right: "end" }[align];
      parts.push(
        `<text x="${short(x)}" y="${short(y)}" font-family="Commissioner, sans-serif" font-size="${size}"${bold ? ' font-weight="600"' : ""} text-anchor="${anchor}" dominant-baseline="central" fill="${colour(token)}">${escaped(text)}</text>`,
      );
    },
    body: () => parts.join("\n"),
  };
}
