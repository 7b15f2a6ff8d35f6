import type { Schemas } from "../../api/client";
import { clock } from "../../components/format";

/** How the figures under the cursor came about. */
export function Calculation({ lines }: { lines: Schemas["CalculationOut"][] }) {
  return (
    <section
      aria-label="Calculation"
      className="figures border border-rule bg-sheet px-3 py-2 text-small leading-[1.5]"
    >
      {lines.map((calculation) => (
        <div key={calculation.direction} className="mb-1">
          <b className="font-semibold">Calculation</b>{" "}
          <span className="text-ink2">
            of {calculation.direction}
            {calculation.at && `, the reading at ${clock(new Date(calculation.at), true)}`}, {calculation.figure}
          </span>
          {calculation.lines.map((line, number) => (
            <p key={line} className={number ? "text-ink2" : ""}>
              {line}
            </p>
          ))}
        </div>
      ))}
    </section>
  );
}
