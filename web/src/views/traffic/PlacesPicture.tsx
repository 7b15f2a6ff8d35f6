import { Link, useSearchParams } from "react-router";
import type { Traffic } from "../../api/trafficQueries";
import { rate, text } from "../../components/format";

type Row = Traffic["rows"][0];
const WIDTH = 880;
const HEIGHT = 330;
const EDGE = 46;
const LARGEST = 26;
const NAMED = 14;

/** Where traffic goes, by the places that an engineer loaded: the area of a disc is its volume. North is up; there is no map beneath. */
export function PlacesPicture({ rows }: { rows: Row[] }) {
  const [search] = useSearchParams();
  const placed = rows.flatMap((row) => (row.where ? [{ row, at: row.where as [number, number] }] : []));
  if (placed.length === 0) return null;
  const spot = projected(placed.map(({ at }) => at));
  const most = Math.max(...placed.map(({ row }) => row.octets));
  const narrowed = (row: Row) => {
    const next = new URLSearchParams(search);
    for (const [name, value] of Object.entries(row.filters)) next.set(name, value);
    next.set("by", "conversation");
    return `/traffic?${next}`;
  };
  return (
    <section aria-label="Places">
      {/* biome-ignore lint/a11y/noSvgWithoutTitle: each disc has a title, and the section has the name */}
      <svg viewBox={`0 0 ${WIDTH} ${HEIGHT}`} className="w-full border-b border-rule">
        {placed.map(({ row, at }) => {
          const [x, y] = spot(at);
          const words = `${row.name}: ${text(rate(row.bps))}`;
          return (
            <Link key={row.name} to={narrowed(row)} aria-label={words}>
              <title>{words}</title>
              <circle cx={x} cy={y} r={radiusOf(row, most)} fill="var(--load2)" stroke="var(--load4)" />
            </Link>
          );
        })}
        {placed.slice(0, NAMED).map(({ row, at }) => {
          const [x, y] = spot(at);
          return (
            <text
              key={row.name}
              x={x + radiusOf(row, most) + 5}
              y={y + 4}
              fontSize="12"
              fill="var(--ink)"
              className="pointer-events-none"
            >
              {row.name}
            </text>
          );
        })}
      </svg>
    </section>
  );
}

const radiusOf = (row: Row, most: number) => Math.max(3, LARGEST * Math.sqrt(row.octets / most));

/** From latitude and longitude to the picture, so that all fit; a degree is as wide as at the middle latitude. */
export function projected(all: [number, number][]): (at: [number, number]) => [number, number] {
  const [south, north] = [Math.min(...all.map(([lat]) => lat)), Math.max(...all.map(([lat]) => lat))];
  const [west, east] = [Math.min(...all.map(([, lon]) => lon)), Math.max(...all.map(([, lon]) => lon))];
  const narrow = Math.cos((((south + north) / 2) * Math.PI) / 180);
  const scale = Math.min(
    (WIDTH - 2 * EDGE) / Math.max(0.01, (east - west) * narrow),
    (HEIGHT - 2 * EDGE) / Math.max(0.01, north - south),
  );
  return ([lat, lon]) => [
    WIDTH / 2 + (lon - (west + east) / 2) * narrow * scale,
    HEIGHT / 2 - (lat - (south + north) / 2) * scale,
  ];
}
