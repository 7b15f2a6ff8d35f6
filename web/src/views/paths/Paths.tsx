import { useQuery } from "@tanstack/react-query";
import { Link, useParams, useSearchParams } from "react-router";
import { type PathMeasure, type PathRow, pathsQuery } from "../../api/pathQueries";
import { useScreenTime } from "../../app/screenTime";
import { useMay } from "../../app/session";
import { useSetSearch } from "../../app/useSetSearch";
import { InlineToggles } from "../../components/InlineToggles";
import { Problem } from "../../components/Problem";
import { PathForm } from "./PathForm";
import { PathPage } from "./PathPage";
import { className, firstLimit, MEASURES, type Pair, pairsOf, shown } from "./pathWords";

/** Whether the network keeps its promise: every path, and one of them in full. */
export function Paths() {
  const time = useScreenTime();
  const [search] = useSearchParams();
  const set = useSetSearch();
  const mayChange = useMay()("engineer", true);
  const { number } = useParams();
  const { data, error } = useQuery(pathsQuery(time.range));
  const measure = MEASURES.find(([name]) => name === search.get("measure"))?.[0] ?? "path_delay_95";
  const words = MEASURES.find(([name]) => name === measure)?.[2];
  const pairs = pairsOf(data ?? [], measure);
  const first = pairs[0] && [...pairs[0].cells.values()][0];
  const chosen = number ? Number(number) : first?.id;
  const edit = search.get("edit");
  const columns = [...new Set((data ?? []).map((row) => row.dscp))].sort((one, other) => other - one);
  return (
    <div className="grid h-full grid-cols-[minmax(340px,0.75fr)_minmax(0,1.25fr)] max-lg:h-auto max-lg:grid-cols-[minmax(0,1fr)]">
      <section
        aria-label="Paths"
        className="min-h-0 overflow-auto border-r border-rule px-4 pt-2 pb-4 max-lg:border-r-0"
      >
        <h1 className="text-large font-semibold">
          Paths{" "}
          <span className="text-body font-normal text-ink2">
            {data && `${data.length.toLocaleString("en-GB")}, worst first`}
          </span>
        </h1>
        <div className="flex flex-wrap items-center gap-x-3 text-small">
          <InlineToggles
            label="Figure"
            value={measure}
            options={MEASURES.map(([name, short]) => [name, short] as const)}
            onChoose={(name) => set({ measure: name === "path_delay_95" ? "" : name })}
          />
          {mayChange && (
            <button type="button" className="ml-auto underline" onClick={() => set({ edit: "new" })}>
              new path
            </button>
          )}
        </div>
        <p className="text-small text-ink2">{words}; the line is the first level of rules</p>
        <Problem error={error} />
        {data?.length === 0 && <Nothing mayChange={mayChange} />}
        {pairs.length > 0 && <Matrix pairs={pairs} columns={columns} measure={measure} chosen={chosen} />}
      </section>
      <section aria-label="Path" className="min-h-0 overflow-auto px-4 pt-2 pb-4">
        {edit === "new" ? (
          <PathForm path={null} onDone={() => set({ edit: "" })} />
        ) : (
          chosen !== undefined && <PathPage key={chosen} number={chosen} />
        )}
      </section>
    </div>
  );
}

function Nothing({ mayChange }: { mayChange: boolean }) {
  return (
    <p className="max-w-[440px] py-3 text-ink2">
      No path is measured yet. A path needs a reflector of STAMP (RFC 8762) at its far end: many routers have one, and
      every prober of Lumtar is one.{mayChange && " Set the first one up with “new path”."}
    </p>
  );
}

type MatrixProps = { pairs: Pair[]; columns: number[]; measure: PathMeasure; chosen: number | undefined };

function Matrix({ pairs, columns, measure, chosen }: MatrixProps) {
  const [search] = useSearchParams();
  const grid = { gridTemplateColumns: `minmax(90px,1fr) repeat(${columns.length}, minmax(96px,1fr))` };
  const most = new Map(
    columns.map((dscp) => [dscp, Math.max(...pairs.map(({ cells }) => top(measure, cells.get(dscp))), 0.001)]),
  );
  return (
    <div className="overflow-x-auto">
      <div className="grid min-w-max gap-x-3 border-b border-rule text-small text-ink2" style={grid}>
        <span />
        {columns.map((dscp) => (
          <span key={dscp}>{className(dscp)}</span>
        ))}
      </div>
      <ul className="figures min-w-max">
        {pairs.map((pair) => (
          <li key={pair.name} className="grid items-center gap-x-3 border-b border-faint" style={grid}>
            <span className="truncate font-medium" title={pair.name}>
              {pair.name}
            </span>
            {columns.map((dscp) => {
              const row = pair.cells.get(dscp);
              return row ? (
                <Cell
                  key={dscp}
                  row={row}
                  measure={measure}
                  most={most.get(dscp) ?? 1}
                  isChosen={row.id === chosen}
                  to={`/paths/${row.id}?${search}`}
                />
              ) : (
                <span key={dscp} />
              );
            })}
          </li>
        ))}
      </ul>
    </div>
  );
}

/** How far a column reaches: its longest bar or its limit. */
function top(measure: PathMeasure, row: PathRow | undefined): number {
  return row ? Math.max(row.figures[measure] ?? 0, 1.05 * (firstLimit(measure, row) ?? 0)) : 0;
}

type CellProps = { row: PathRow; measure: PathMeasure; most: number; isChosen: boolean; to: string };

function Cell({ row, measure, most, isChosen, to }: CellProps) {
  const value = row.figures[measure];
  const limit = firstLimit(measure, row);
  const isDead = row.figures.sent > 0 && row.figures.lost === row.figures.sent;
  const isBad = limit !== null && value !== null && (measure === "path_mos" ? value < limit : value > limit);
  return (
    <Link
      to={to}
      aria-current={isChosen ? "true" : undefined}
      aria-label={`${row.name}: ${isDead ? "no answer" : shown(measure, value)}`}
      title={row.problem || row.name}
      className={`grid h-7 grid-cols-[minmax(0,1fr)_58px] items-center gap-2 px-1 hover:bg-lampsoft ${isChosen ? "bg-lampsoft" : ""}`}
    >
      <span aria-hidden className="relative block h-3 bg-track">
        <span
          className={`absolute inset-y-0 left-0 ${isBad ? "bg-critical" : "bg-ink"}`}
          style={{ width: `${Math.min(100, (100 * (value ?? 0)) / most)}%` }}
        />
        {limit !== null && limit <= most && (
          <span className="absolute -inset-y-1 w-[2px] bg-critical" style={{ left: `${(100 * limit) / most}%` }} />
        )}
      </span>
      <span className={`text-right ${isBad || isDead ? "font-semibold text-critical" : ""}`}>
        {isDead ? "none" : shown(measure, value)}
      </span>
    </Link>
  );
}
