import { select } from "d3-selection";
import { type ZoomBehavior, type ZoomTransform, zoom, zoomIdentity } from "d3-zoom";
import {
  type KeyboardEvent,
  type PointerEvent,
  useEffect,
  useImperativeHandle,
  useMemo,
  useRef,
  useState,
} from "react";
import { colour, useTheme } from "../../components/theme";
import { useSize } from "../../components/useSize";
import { type By, drawMap, type Look, type PinnedFigure } from "./drawMap";
import { MapHover } from "./MapHover";
import { type Area, extent, type Hit, hit, type MapLink, type Node, nextCard, type Point, strips } from "./mapGeometry";
import { canvasPen } from "./pen";
import { bows, type Tunnel } from "./tunnels";

export type MapHandle = { fit: () => void; zoomBy: (factor: number) => void; show: (node: Node) => void };
type Props = {
  handle: React.Ref<MapHandle>;
  /** What the map is, in words. */
  label: string;
  /** Which map it is: another one is fitted to the window anew. */
  name: string;
  nodes: Node[];
  links: MapLink[];
  by: By;
  lit: Look["lit"];
  pickedNode: string | null;
  pickedLink: number | null;
  pinned: Map<string, PinnedFigure[]>;
  tunnels: Tunnel[];
  /** A picture beneath everything. */
  background: (Area & { url: string }) | null;
  canMove: boolean;
  onPick: (hit: Hit | null) => void;
  onOpen: (node: Node) => void;
  onMove: (key: string, to: Point) => void;
};

const SMALLEST = 0.02;
const LARGEST = 3;
const MARGIN = 28;
const ARROWS: Record<string, [number, number]> = {
  ArrowRight: [1, 0],
  ArrowLeft: [-1, 0],
  ArrowDown: [0, 1],
  ArrowUp: [0, -1],
};

/** The map on a canvas: the wheel zooms, dragging moves it; arrow keys go from card to card, Enter opens one. */
export function MapCanvas(props: Props) {
  const { nodes, links, label, name, by, lit, pickedNode, pickedLink, pinned, tunnels, background, canMove } = props;
  const box = useRef<HTMLDivElement>(null);
  const canvas = useRef<HTMLCanvasElement>(null);
  const { width, height } = useSize(box);
  const theme = useTheme();
  const [view, setView] = useState<ZoomTransform>(zoomIdentity);
  const [dragged, setDragged] = useState<{ key: string; to: Point } | null>(null);
  const zooming = useRef<ZoomBehavior<HTMLDivElement, unknown> | null>(null);
  const held = useRef<{ hit: Hit | null; at: Point; moved: boolean } | null>(null);
  const [hover, setHover] = useState<{ hit: Hit | null; at: Point }>({ hit: null, at: { x: 0, y: 0 } });
  const placed = useMemo(
    () => (dragged ? nodes.map((node) => (node.key === dragged.key ? { ...node, ...dragged.to } : node)) : nodes),
    [nodes, dragged],
  );
  const lines = useMemo(() => strips(new Map(placed.map((node) => [node.key, node])), links), [placed, links]);

  const drawn = useMemo(() => bows(tunnels, new Map(placed.map((node) => [node.key, node]))), [placed, tunnels]);

  useEffect(() => {
    const target = box.current;
    if (!target) return;
    const behaviour = zoom<HTMLDivElement, unknown>()
      .scaleExtent([SMALLEST, LARGEST])
      .filter((event: Event) => event.type !== "dblclick" && !isHeld(event.target))
      .on("zoom", ({ transform }: { transform: ZoomTransform }) => setView(transform));
    zooming.current = behaviour;
    const selection = select(target);
    selection.call(behaviour);
    return () => {
      selection.on(".zoom", null);
    };
  }, []);

  const fit = () => {
    if (!box.current || !zooming.current || !nodes.length || !width || !height) return;
    const all = extent(nodes);
    const scale = Math.min(1.4, (width - MARGIN) / all.width, (height - MARGIN) / all.height);
    const [x, y] = [width / 2 - scale * (all.x + all.width / 2), height / 2 - scale * (all.y + all.height / 2)];
    select(box.current).call(zooming.current.transform, zoomIdentity.translate(x, y).scale(Math.max(SMALLEST, scale)));
  };
  useImperativeHandle(props.handle, () => ({
    fit,
    zoomBy: (factor) => box.current && zooming.current?.scaleBy(select(box.current), factor),
    show: (node) => {
      if (!box.current || !zooming.current) return;
      const scale = Math.max(view.k, 0.8);
      const to = zoomIdentity.translate(width / 2 - scale * node.x, height / 2 - scale * node.y).scale(scale);
      select(box.current).call(zooming.current.transform, to);
    },
  }));

  const isEmpty = nodes.length === 0;
  // biome-ignore lint/correctness/useExhaustiveDependencies: a map is fitted when it is another one or has another size, not when something on it changes
  useEffect(fit, [name, width, height, isEmpty]);

  useEffect(() => {
    const target = canvas.current;
    const context = target?.getContext("2d");
    if (!target || !context || !width || !height || !theme) return;
    target.width = width * devicePixelRatio;
    target.height = height * devicePixelRatio;
    context.scale(devicePixelRatio, devicePixelRatio);
    context.translate(view.x, view.y);
    context.scale(view.k, view.k);
    const [left, top] = view.invert([0, 0]);
    const [right, bottom] = view.invert([width, height]);
    drawMap(canvasPen(context, colour), placed, links, lines, {
      by,
      scale: view.k,
      lit,
      pickedNode,
      pickedLink,
      pinned,
      bows: drawn,
      isSeen: (each) => each.x < right && each.x + each.width > left && each.y < bottom && each.y + each.height > top,
    });
  }, [placed, links, lines, drawn, by, lit, pickedNode, pickedLink, pinned, view, width, height, theme]);

  const pointOf = (event: PointerEvent | React.MouseEvent): { here: Point; on: Point } => {
    const area = box.current?.getBoundingClientRect();
    const here = { x: event.clientX - (area?.left ?? 0), y: event.clientY - (area?.top ?? 0) };
    const [x, y] = view.invert([here.x, here.y]);
    return { here, on: { x, y } };
  };
  const find = (on: Point) => hit(on, placed, lines, view.k);

  const press = (event: PointerEvent) => {
    const { here, on } = pointOf(event);
    const found = find(on);
    held.current = { hit: found, at: here, moved: false };
    if (canMove && found?.node) event.currentTarget.setAttribute("data-held", "");
  };
  const move = (event: PointerEvent) => {
    const { here, on } = pointOf(event);
    const start = held.current;
    if (start && event.buttons) {
      if (Math.hypot(here.x - start.at.x, here.y - start.at.y) > 4) start.moved = true;
      if (canMove && start.hit?.node && start.moved) setDragged({ key: start.hit.node, to: on });
      setHover({ hit: null, at: here });
      return;
    }
    setHover({ hit: find(on), at: here });
  };
  const release = (event: PointerEvent) => {
    event.currentTarget.removeAttribute("data-held");
    const start = held.current;
    held.current = null;
    if (dragged) {
      props.onMove(dragged.key, dragged.to);
      setDragged(null);
    } else if (start && !start.moved) props.onPick(start.hit);
  };
  const keys = (event: KeyboardEvent) => {
    const here = nodes.find((node) => node.key === pickedNode);
    const arrow = ARROWS[event.key];
    const act = (what: () => void) => {
      event.preventDefault();
      event.stopPropagation();
      what();
    };
    if (arrow) {
      act(() => {
        const next = nextCard(nodes, here ?? null, ...arrow);
        if (next) props.onPick({ node: next.key });
      });
    } else if (event.key === "Enter" && here) act(() => props.onOpen(here));
    else if (event.key === "+") act(() => box.current && zooming.current?.scaleBy(select(box.current), 1.3));
    else if (event.key === "-") act(() => box.current && zooming.current?.scaleBy(select(box.current), 1 / 1.3));
    else if (event.key === "0") act(fit);
  };
  const picked = nodes.find((node) => node.key === pickedNode);
  return (
    // biome-ignore lint/a11y/useSemanticElements: a drawing that takes arrow keys has no element of its own
    <div
      ref={box}
      role="group"
      // biome-ignore lint/a11y/noNoninteractiveTabindex: arrow keys go from card to card
      tabIndex={0}
      aria-label={`${label}${picked ? `; ${picked.name}` : ""}`}
      className="absolute inset-0 cursor-grab touch-none overflow-hidden active:cursor-grabbing"
      onPointerDownCapture={press}
      onPointerMove={move}
      onPointerUp={release}
      onPointerLeave={() => setHover({ hit: null, at: { x: 0, y: 0 } })}
      onDoubleClick={(event) => {
        const found = find(pointOf(event).on);
        const node = nodes.find((each) => each.key === found?.node);
        if (node) props.onOpen(node);
      }}
      onKeyDown={keys}
    >
      {background && (
        <img
          src={background.url}
          alt=""
          className="pointer-events-none absolute top-0 left-0 max-w-none origin-top-left opacity-60"
          style={{
            width: background.width,
            height: background.height,
            transform: `translate(${view.applyX(background.x)}px, ${view.applyY(background.y)}px) scale(${view.k})`,
          }}
        />
      )}
      <canvas ref={canvas} className="relative" style={{ width, height }} />
      <MapHover
        node={nodes.find((each) => each.key === hover.hit?.node)}
        link={hover.hit?.link === undefined ? undefined : links[hover.hit.link]}
        at={hover.at}
        width={width}
      />
    </div>
  );
}

/** Whether a card is being moved, so that the map itself stays. */
const isHeld = (target: EventTarget | null) => target instanceof Element && target.closest("[data-held]") !== null;
