import type { Schemas } from "../../api/client";
import type { Rates } from "../../charts/LiveChart";

type Port = Pick<Schemas["LivePort"], "at" | "seconds" | "in_bps" | "out_bps">;

/** Looks as they are drawn, each level over the time that it covers; polls stand where nobody looked, else a gap. */
export function liveRates(port: Port, polls: Rates): Rates {
  const found: Rates = { at: [], in_bps: [], out_bps: [] };
  const add = (at: number, into: number | null, out: number | null) => {
    found.at.push(at);
    found.in_bps.push(into);
    found.out_bps.push(out);
  };
  let next = 0;
  const addPolls = (until: number) => {
    for (; (polls.at[next] ?? Number.POSITIVE_INFINITY) <= until; next += 1)
      add(polls.at[next] as number, polls.in_bps[next] ?? null, polls.out_bps[next] ?? null);
  };
  let covered = Number.NEGATIVE_INFINITY;
  port.at.forEach((end, place) => {
    const start = end - (port.seconds[place] ?? 0);
    const [into, out] = [port.in_bps[place] ?? null, port.out_bps[place] ?? null];
    // A look begins where the look before ended, but for the time that answers take.
    if (start - covered > 1.5) {
      const before = found.at.length;
      addPolls(start);
      if (found.at.length === before && before) add(covered + 0.001, null, null);
      add(start, into, out);
    }
    add(end, into, out);
    covered = end;
    while ((polls.at[next] ?? Number.POSITIVE_INFINITY) <= end) next += 1;
  });
  if (!port.at.length) addPolls(Number.MAX_VALUE);
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
