import type { ServiceClass, Sla, SlaBy } from "../../api/pathQueries";
import { duration } from "../../components/format";

export const BY: readonly (readonly [SlaBy, string])[] = [
  ["class", "class"],
  ["group", "group"],
  ["site", "site"],
  ["provider", "provider"],
  ["transport", "transport"],
  ["path", "path"],
];

/** Targets of a service class: measure, words, unit, and whether less is worse. */
export const TARGETS = [
  ["path_delay_95", "Delay", "ms, 95th percentile"],
  ["path_jitter", "Jitter", "ms, RFC 3550"],
  ["path_variation", "Variation", "ms, RFC 3393"],
  ["path_loss", "Loss", "% of probes"],
  ["path_mos", "Calls", "opinion score, at least"],
  ["path_failed", "Failed", "% without the right answer"],
] as const;

/** Per cent of the time: as many digits as it takes to tell it from all of it. */
export function share(value: number | null | undefined): string {
  if (value === null || value === undefined) return "–";
  if (value === 100) return "100 %";
  return `${(Math.floor(value * 100) / 100).toFixed(2)} %`;
}

/** Minutes of a budget. */
export const minutes = (value: number) => (value < 0 ? `−${duration(-value * 60)}` : duration(value * 60));

/** What a service class promises, in a line. */
export function promised({ limits, share, hours }: ServiceClass): string {
  const parts = TARGETS.filter(([measure]) => limits[measure] !== undefined).map(([measure, words, unit]) => {
    const sign = measure === "path_mos" ? "≥" : "≤";
    return `${words.toLowerCase()} ${sign} ${limits[measure]}${unit.startsWith("%") ? " %" : unit.startsWith("ms") ? " ms" : ""}`;
  });
  return `${parts.join(", ")} for ${share} % of the time${hours ? `, ${hours}` : ""}`;
}

/** The month before or after one like 2026-11. */
export function monthBeside(month: string, step: number): string {
  const [year = 0, number = 1] = month.split("-").map(Number);
  const at = new Date(Date.UTC(year, number - 1 + step, 1));
  return at.toISOString().slice(0, 7);
}

/** What a row is called that is of nothing. */
const NOBODY = "(none)";

/** What a row leads to: the same by path, narrowed to it. */
export function within(by: SlaBy, row: Sla["rows"][0]): Record<string, string> | null {
  if (by === "class") return { by: "path", class: row.name };
  if (by === "group") return row.name === NOBODY ? null : { by: "path", group: row.name };
  if (by === "site") return { by: "path", site: row.name };
  if (by === "provider") return { by: "transport", provider: row.name };
  return null;
}
