import type { Schemas } from "../../api/client";
import { figureIn, type Unit } from "../../charts/units";
import { Figure } from "../../components/Figure";
import { count, duration, type Figure as Parts, perSecond, rate, text, volume } from "../../components/format";

type Series = Schemas["SeriesOut"];
type Direction = Series["inward"];

/** A rate in the unit of the chart; a share is of the speed in force at the end. */
function rateIn(unit: Unit, bps: number | null, speed: number): Parts | null {
  if (bps === null) return null;
  if (unit === "share") return speed ? figureIn("share", (100 * bps) / speed) : null;
  return unit === "bytes" ? figureIn("bytes", bps / 8) : rate(bps);
}

/** Mean octets a packet. */
const packetSize = (seen: Direction) =>
  seen.packets ? { figure: Math.round(seen.volume / seen.packets).toString(), unit: "B" } : null;

const share = (part: number, total: number) =>
  total ? { figure: ((100 * part) / total).toFixed(0), unit: "%" } : null;

/** Errors and discards per million packets: an errored packet is none of the packets counted. */
function perMillion(seen: Direction): string {
  const bad = seen.errors + seen.discards;
  return bad ? perSecond((1e6 * bad) / (seen.packets + bad)) : "0";
}

const MEANS: Record<string, string> = {
  "packet size": "mean packet size in octets",
  unicast: "share of the packets that are unicast",
  "bad ppm": "errors and discards per million packets",
};

/** The summary, in figures. */
export function Summary({ series, unit, seconds }: { series: Series; unit: Unit; seconds: number }) {
  const speed = series.speeds.at(-1);
  const rows = [
    ["in", "text-in", series.inward, speed?.in_bps ?? 0],
    ["out", "text-out", series.outward, speed?.out_bps ?? 0],
  ] as const;
  const measured = Math.floor(series.measured * 1000) / 10;
  const most = Math.max(speed?.in_bps ?? 0, speed?.out_bps ?? 0);
  const { fcs_errors, alignment_errors, late_collisions } = series.ethernet;
  const ethernet = [
    [fcs_errors, "with a wrong checksum (FCS)"] as const,
    [alignment_errors, "misaligned"] as const,
    [late_collisions, "late collisions"] as const,
  ]
    .filter(([number]) => number > 0)
    .map(([number, words]) => `${number.toLocaleString("en")} ${words}`);
  return (
    <>
      <h2 className="heading">
        Summary{" "}
        <span className="font-normal text-ink2">
          {duration(seconds)}, {measured < 100 ? `${measured} % measured` : "all of it measured"}; 95th percentile of
          five-minute means
        </span>
      </h2>
      {/* On a narrow screen it is scrolled, by keys as well. */}
      {/* biome-ignore lint/a11y/noNoninteractiveTabindex: what can be scrolled must be reached */}
      <section aria-label="Figures" className="overflow-x-auto" tabIndex={0}>
        <table className="figures w-full text-right text-small">
          <thead className="text-ink2">
            <tr>
              <th />
              {["min", "mean", "95th", "max", "volume", "packets", "packet size", "unicast", "bad ppm"].map((name) => (
                <th key={name} className="py-[3px] pl-2 font-normal whitespace-nowrap" title={MEANS[name]}>
                  {name}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {rows.map(([name, style, seen, bps]) => (
              <tr key={name} className="border-t border-dotted border-rule">
                <th scope="row" className={`py-[3px] text-left font-semibold ${style}`}>
                  {name}
                </th>
                {[seen.min, seen.mean, seen.p95, seen.max].map((value, place) => (
                  // biome-ignore lint/suspicious/noArrayIndexKey: the columns are fixed
                  <td key={place} className="pl-2">
                    <Figure of={rateIn(unit, value, bps)} />
                  </td>
                ))}
                {[volume(seen.volume), count(seen.packets), packetSize(seen), share(seen.unicast, seen.packets)].map(
                  (value, place) => (
                    // biome-ignore lint/suspicious/noArrayIndexKey: the columns are fixed
                    <td key={place} className="pl-2">
                      <Figure of={value} />
                    </td>
                  ),
                )}
                <td className="pl-2">{perMillion(seen)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </section>
      <p className="figures mt-1 text-small text-ink2">
        95th of the larger direction {written(rateIn(unit, series.larger_p95, most))}, of both together{" "}
        {written(rateIn(unit, series.both_p95, most))}
        {ethernet.length > 0 && ` · Ethernet: ${ethernet.join(", ")}`}
      </p>
    </>
  );
}

const written = (figure: Parts | null) => (figure ? text(figure) : "not known");
