import type { Schemas } from "../../api/client";
import { Figure } from "../../parts/Figure";
import { duration, rate, volume } from "../../parts/format";

const figure = (value: number | null) => (value === null ? null : rate(value));

/** What is seen, in figures. */
export function Seen({ series, seconds }: { series: Schemas["SeriesOut"]; seconds: number }) {
  const rows = [
    ["in", "text-in", series.inward],
    ["out", "text-out", series.outward],
  ] as const;
  const measured = Math.round(series.measured * 100);
  return (
    <>
      <h2 className="heading">
        What is seen{" "}
        <span className="font-normal text-ink2">
          {duration(seconds)}, {measured < 100 ? `${measured} % measured` : "all of it measured"}; 95th percentile of
          the points shown
        </span>
      </h2>
      <table className="figures w-full text-right text-[12px]">
        <thead className="text-ink2">
          <tr>
            <th />
            {["min", "mean", "95th", "max", "volume"].map((name) => (
              <th key={name} className="py-[3px] pl-3 font-normal">
                {name}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {rows.map(([name, style, seen]) => (
            <tr key={name} className="border-t border-dotted border-rule">
              <th scope="row" className={`py-[3px] text-left font-semibold ${style}`}>
                {name}
              </th>
              {[seen.min, seen.mean, seen.p95, seen.max].map((value, place) => (
                // biome-ignore lint/suspicious/noArrayIndexKey: the columns are fixed
                <td key={place} className="pl-3">
                  <Figure of={figure(value)} />
                </td>
              ))}
              <td className="pl-3">
                <Figure of={volume(seen.volume)} />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </>
  );
}
