import type { Schemas } from "../../api/client";
import type { Rates } from "../../charts/LiveChart";

type Port = Pick<Schemas["LivePort"], "at" | "seconds" | "in_bps" | "out_bps">;

/** Looks as they are drawn: behind the polls before them, each level over the time that it covers, gaps left open. */
export function shownLooks(port: Port, polls: Rates): Rates {
  const first = (port.at[0] ?? Number.POSITIVE_INFINITY) - (port.seconds[0] ?? 0);
  const known = polls.at.filter((at) => at <= first).length;
  const found: Rates = {
    at: polls.at.slice(0, known),
    in_bps: polls.in_bps.slice(0, known),
    out_bps: polls.out_bps.slice(0, known),
  };
  const add = (at: number, into: number | null, out: number | null) => {
    found.at.push(at);
    found.in_bps.push(into);
    found.out_bps.push(out);
  };
  port.at.forEach((end, place) => {
    const start = end - (port.seconds[place] ?? 0);
    const before = port.at[place - 1];
    const [into, out] = [port.in_bps[place] ?? null, port.out_bps[place] ?? null];
    // What a look covers begins where the look before ended, but for the time that answers take.
    if (before !== undefined && start - before > 1.5) add(before + 0.001, null, null);
    if (before === undefined || start - before > 1.5) add(start, into, out);
    add(end, into, out);
  });
  return found;
}

/** The top of a scale that holds all that is shown, in bits per second. */
export function topOf(all: Rates[], since: number): number {
  const highest = all.flatMap(({ at, in_bps, out_bps }, which) =>
    // Of the first only what is in sight counts; the others are in sight as a whole.
    at.flatMap((when, place) => (which === 0 && when < since ? [] : [in_bps[place] ?? 0, out_bps[place] ?? 0])),
  );
  return Math.max(1000, ...highest) * 1.08;
}
