import { Link, useSearchParams } from "react-router";
import type { Traffic } from "../../api/trafficQueries";
import { rate, text } from "../../components/format";

type Row = Traffic["rows"][0];
const SHADES = 5;

/** Which site sends how much to which: a row for each sender, a column for each receiver, the darker the more. */
export function SiteMatrix({ rows }: { rows: Row[] }) {
  const [search] = useSearchParams();
  const pairs = rows.map((row) => ({ row, from: row.name.split(" → ")[0] ?? "", to: row.name.split(" → ")[1] ?? "" }));
  const sites = [...new Set(pairs.flatMap(({ from, to }) => [from, to]))].sort(bySite);
  if (sites.length < 3) return null;
  const most = Math.max(...rows.map((row) => row.bps));
  const of = new Map(pairs.map((pair) => [`${pair.from} ${pair.to}`, pair.row]));
  const narrowed = (row: Row) => {
    const next = new URLSearchParams(search);
    for (const [name, value] of Object.entries(row.filters)) next.set(name, value);
    next.set("by", "application");
    return `/traffic?${next}`;
  };
  return (
    <section aria-label="Between sites" className="overflow-x-auto py-1">
      <table className="border-collapse text-tiny">
        <caption className="text-left text-ink2 [caption-side:bottom]">
          The darkest is {text(rate(most))}; each lighter shade is down to a quarter of the one before.
        </caption>
        <thead>
          <tr>
            <th className="pr-2 text-left align-bottom font-normal text-ink2">from, to</th>
            {sites.map((site) => (
              <th key={site} scope="col" className="h-20 w-6 align-bottom font-normal">
                <span className="inline-block rotate-180 whitespace-nowrap [writing-mode:vertical-rl]">{site}</span>
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {sites.map((from) => (
            <tr key={from}>
              <th scope="row" className="pr-2 text-left font-normal whitespace-nowrap">
                {from}
              </th>
              {sites.map((to) => {
                const row = of.get(`${from} ${to}`);
                const words = row ? `${from} to ${to}: ${text(rate(row.bps))}` : "";
                return (
                  <td key={to} className="h-4 w-6 border border-paper p-0" style={{ background: shadeOf(row, most) }}>
                    {row && <Link className="block h-4" to={narrowed(row)} title={words} aria-label={words} />}
                  </td>
                );
              })}
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

/** By name, what is elsewhere at the end. */
const bySite = (one: string, other: string) =>
  Number(one === "elsewhere") - Number(other === "elsewhere") || one.localeCompare(other);

/** The shade of a pair: each step is a quarter of the one before, since volumes differ by orders of magnitude. */
export function shadeOf(row: Pick<Row, "bps"> | undefined, most: number): string {
  if (!row || row.bps <= 0) return "transparent";
  const step = Math.max(0, SHADES - 1 - Math.floor(Math.log(most / row.bps) / Math.log(4)));
  return `var(--load${step})`;
}
