import type { PathMeasure, PathRow } from "../../api/pathQueries";
import { percent, wait } from "../../components/format";

/** Figures that paths are put in order by; of an opinion score less is worse. */
export const MEASURES: readonly (readonly [PathMeasure, string, string])[] = [
  ["path_delay_95", "delay", "95th percentile of round trips"],
  ["path_jitter", "jitter", "smoothed, RFC 3550"],
  ["path_variation", "variation", "from one probe to the next, RFC 3393"],
  ["path_loss", "loss", "probes without an answer"],
  ["path_mos", "calls", "opinion score, 1 to 4.5"],
];

const CLASSES: Record<number, string> = { 0: "best effort", 46: "EF", 48: "CS6", 56: "CS7" };

/** What a DSCP is called (RFC 4594). */
export function className(dscp: number): string {
  if (CLASSES[dscp]) return CLASSES[dscp];
  const [kind, drop] = [dscp >> 3, (dscp & 7) / 2];
  if ((dscp & 7) === 0) return `CS${kind}`;
  return kind >= 1 && kind <= 4 && Number.isInteger(drop) ? `AF${kind}${drop}` : `DSCP ${dscp}`;
}

/** A figure with its unit. */
export function shown(measure: PathMeasure, value: number | null): string {
  if (value === null) return "–";
  if (measure === "path_loss") return `${percent(value)} %`;
  if (measure === "path_mos") return value.toFixed(1);
  return measure === "path_burst" ? String(value) : wait(value);
}

/** How bad a figure is, to put paths in order: nothing is known of those that nothing was sent over. */
export function badness(measure: PathMeasure, { figures }: PathRow): number {
  if (figures.sent > 0 && figures.lost === figures.sent) return Number.POSITIVE_INFINITY;
  const value = figures[measure];
  if (value === null) return -1;
  return measure === "path_mos" ? 5 - value : value;
}

/** The lowest level of rules about a measure of a path (the highest, where less is worse). */
export function firstLimit(measure: PathMeasure, { limits }: PathRow): number | null {
  const mine = limits.filter((each) => each.measure === measure).map((each) => each.limit);
  if (mine.length === 0) return null;
  return measure === "path_mos" ? Math.max(...mine) : Math.min(...mine);
}

export type Pair = { name: string; cells: Map<number, PathRow>; worst: number };

/** Paths between the same sites as one row, a cell for each DSCP; the worst first. */
export function pairsOf(rows: PathRow[], measure: PathMeasure): Pair[] {
  const found = new Map<string, Pair>();
  const homes = new Set(rows.map((row) => row.from_site));
  for (const row of rows) {
    const between = homes.size > 1 ? `${row.from_site} – ${row.to_site}` : row.to_site;
    const taken = found.get(between)?.cells.has(row.dscp);
    const name = row.to_site && !taken ? between : row.name;
    const pair = found.get(name) ?? { name, cells: new Map(), worst: -1 };
    pair.cells.set(row.dscp, row);
    pair.worst = Math.max(pair.worst, badness(measure, row));
    found.set(name, pair);
  }
  return [...found.values()].sort((one, other) => other.worst - one.worst || one.name.localeCompare(other.name));
}
