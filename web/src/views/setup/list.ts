import type { Schemas } from "../../api/client";
import type { Result } from "./AddMany";

/** The text of a list without the lines that are in by now; header and comments stay. */
export function left(text: string, list: Schemas["ListOut"], results: Map<number, Result>): string {
  const done = new Set<number>();
  const open = new Set<number>();
  for (const line of list.lines) {
    const went = results.get(line.number)?.went;
    (went === "added" || went === "known" || line.known ? done : open).add(line.number);
  }
  return text
    .split(/\r\n|\r|\n/)
    .filter((_, place) => open.has(place + 1) || !done.has(place + 1))
    .join("\n");
}
