import type { Schemas } from "../../api/client";
import { figureIn, type Unit, valuesIn } from "../../charts/units";
import { Figure } from "../../components/Figure";
import { clock, moment } from "../../components/format";

/** The steps of a chart as a table, newest first. */
export function SummaryTable({ series, unit }: { series: Schemas["SeriesOut"]; unit: Unit }) {
  const [inward, outward] = [valuesIn(unit, series, "in"), valuesIn(unit, series, "out")];
  const rows = series.at.map((at, place) => ({ at, place })).reverse();
  return (
    <section aria-label="Summary" className="mt-2 max-h-[260px] overflow-auto border-y border-rule">
      <table className="figures w-full text-right text-small">
        <thead className="sticky top-0 bg-paper text-ink2">
          <tr>
            <th className="py-[3px] text-left font-normal">from – to</th>
            {["in", "out", "errors", "discards"].map((name) => (
              <th key={name} className="pl-3 font-normal">
                {name}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {rows.map(({ at, place }) => (
            <tr key={at} className="border-t border-faint">
              <th scope="row" className="py-px text-left font-normal">
                {moment(new Date((at - series.step_s) * 1000))} – {clock(new Date(at * 1000))}
              </th>
              {[inward, outward].map((values, number) => (
                // biome-ignore lint/suspicious/noArrayIndexKey: the columns are fixed
                <td key={number} className="pl-3">
                  <Figure of={values[place] == null ? null : figureIn(unit, values[place])} />
                </td>
              ))}
              <td className="pl-3">{series.errors[place] || ""}</td>
              <td className="pl-3">{series.discards[place] || ""}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}
