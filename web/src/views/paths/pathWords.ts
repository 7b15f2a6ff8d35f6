import type { PathMeasure, PathRow } from "../../api/pathQueries";
import { percent, wait } from "../../components/format";

/** Figures that paths are put in order by; of an opinion score less is worse. */
export const MEASURES: readonly (readonly [PathMeasure, string, string])[] = [
  ["path_delay_95", "delay", "95th percentile of round trips"],
  ["path_jitter", "jitter", "smoothed, RFC 3550"],
  ["path_variation", "variation", "from one probe to the next, RFC 3393"],
  ["path_loss", "loss", "probes without an answer"],
  ["path_mos", "calls", "opinion score, 1 to 4.5"],
  ["path_failed", "failed", "probes without the right answer"],
];

/** What can be looked at. */
export const LISTS = [
  ["", "paths"],
  ["levels", "service levels"],
  ["transports", "transports"],
  ["question", "was it the network?"],
] as const;

/** Of a service: of what its time is made up, in this order. */
export const PARTS = [
  ["lookup", "path_lookup", "name"],
  ["connected", "path_connected", "connection"],
  ["secured", "path_secured", "TLS"],
  ["first_octet", "path_first_octet", "first octet"],
] as const;

type KindWords = { words: string; port: number; whom: string; asked?: string; example?: string; everyMs: number };

/** How a path can be measured. */
export const KINDS: Record<string, KindWords> = {
  stamp: { words: "STAMP", port: 862, whom: "Reflector", everyMs: 1000 },
  icmp: { words: "ICMP echo", port: 0, whom: "Address", everyMs: 1000 },
  udp: { words: "UDP echo", port: 7, whom: "Address", everyMs: 1000 },
  tcp: { words: "TCP connection", port: 443, whom: "Address", everyMs: 10_000 },
  dns: {
    words: "DNS",
    port: 53,
    whom: "Name server",
    asked: "name and type",
    example: "films.example A",
    everyMs: 10_000,
  },
  http: {
    words: "HTTP and HTTPS",
    port: 0,
    whom: "Address",
    asked: "address of the web",
    example: "https://films.example/health",
    everyMs: 30_000,
  },
  device: { words: "a device’s own test (RFC 4560)", port: 0, whom: "Target", everyMs: 60_000 },
};

/** Whether a path is measured by one packet there and one back. */
export const isPacket = (kind: string) => ["stamp", "icmp", "udp", "device"].includes(kind);

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
  if (measure === "path_certificate") return value < 0 ? "ended" : `${Math.floor(value)} d`;
  if (measure === "path_loss" || measure === "path_failed") return `${percent(value)} %`;
  if (measure === "path_mos") return value.toFixed(1);
  return measure === "path_burst" ? String(value) : wait(value);
}

/** What a path is found by. */
export function wordsOf(row: PathRow): string {
  const { name, from_site, to_site, service_class, transport, provider, address, asked, problem } = row;
  const all = [name, from_site, to_site, service_class, transport, provider, address, asked, problem, row.device_name];
  return all.join(" ").toLowerCase();
}

/** How bad a figure is, to put paths in order: nothing is known of those that nothing was sent over. */
export function badness(measure: PathMeasure, { figures }: PathRow): number {
  if (figures.sent > 0 && figures.lost === figures.sent) return Number.POSITIVE_INFINITY;
  const value = figures[measure];
  if (value === null) return -1;
  return measure === "path_mos" ? 5 - value : value;
}

/** Of some figures less is worse. */
export const isLessWorse = (measure: PathMeasure) => measure === "path_mos" || measure === "path_certificate";

/** The lowest level of rules about a measure of a path (the highest, where less is worse). */
export function firstLimit(measure: PathMeasure, { limits }: PathRow): number | null {
  const mine = limits.filter((each) => each.measure === measure).map((each) => each.limit);
  if (mine.length === 0) return null;
  return isLessWorse(measure) ? Math.max(...mine) : Math.min(...mine);
}

export type Pair = { name: string; cells: Map<number, PathRow>; worst: number };

/** Paths between the same sites as one row, a cell for each DSCP; the worst first. */
export function pairsOf(rows: PathRow[], measure: PathMeasure): Pair[] {
  const found = new Map<string, Pair>();
  const homes = new Set(rows.map((row) => row.from_site));
  const lines = new Map<string, Set<string>>();
  for (const { to_site, transport } of rows) lines.set(to_site, (lines.get(to_site) ?? new Set()).add(transport));
  for (const row of rows) {
    const line = (lines.get(row.to_site)?.size ?? 0) > 1 ? ` · ${row.transport.replace(`${row.to_site} `, "")}` : "";
    const between = `${homes.size > 1 ? `${row.from_site} – ` : ""}${row.to_site}${line}`;
    const taken = found.get(between)?.cells.has(row.dscp);
    const name = row.to_site && !taken ? between : row.name;
    const pair = found.get(name) ?? { name, cells: new Map(), worst: -1 };
    pair.cells.set(row.dscp, row);
    pair.worst = Math.max(pair.worst, badness(measure, row));
    found.set(name, pair);
  }
  return [...found.values()].sort((one, other) => other.worst - one.worst || one.name.localeCompare(other.name));
}

/** An interval of so many seconds, as a path is drawn. */
export const EACH: Record<number, string> = {
  60: "each minute",
  3600: "each hour",
  21600: "each six hours",
  86400: "each day",
};
