import { useQuery } from "@tanstack/react-query";
import { Link, useParams, useSearchParams } from "react-router";
import { type PathMeasure, type PathRow, pathCoursesQuery, pathsQuery } from "../../api/pathQueries";
import { useScreenTime } from "../../app/screenTime";
import { useMay } from "../../app/session";
import { useSetSearch } from "../../app/useSetSearch";
import { InlineChoice } from "../../components/InlineChoice";
import { InlineToggles } from "../../components/InlineToggles";
import { Problem } from "../../components/Problem";
import { NetworkQuestion } from "./NetworkQuestion";
import { PathForm } from "./PathForm";
import { PathPage } from "./PathPage";
import {
  badness,
  className,
  firstLimit,
  isLessWorse,
  KINDS,
  LISTS,
  MEASURES,
  type Pair,
  pairsOf,
  shown,
  wordsOf,
} from "./pathWords";
import { ServiceLevels } from "./ServiceLevels";
import { SmallCourse } from "./SmallCourse";
import { TransportsInUse } from "./TransportsInUse";

/** Whether the network keeps its promise: every path and one of them in full, what was promised for a month, and what lay between two ends. */
export function Paths() {
  const [search] = useSearchParams();
  const list = search.get("list");
  if (list === "question") return <NetworkQuestion />;
  if (list === "transports") return <TransportsInUse />;
  return list === "levels" ? <ServiceLevels /> : <PathList />;
}

const MOST_COURSES = 400;
const MOST_LINES = 300;
const AS = [
  ["", "figures"],
  ["courses", "over time"],
] as const;
type Courses = Map<number, (number | null)[]>;

function PathList() {
  const time = useScreenTime();
  const [search] = useSearchParams();
  const set = useSetSearch();
  const mayChange = useMay()("engineer", true);
  const { number } = useParams();
  const { data, error } = useQuery(pathsQuery(time.range));
  const measure = MEASURES.find(([name]) => name === search.get("measure"))?.[0] ?? "path_delay_95";
  const meaning = MEASURES.find(([name]) => name === measure)?.[2];
  const group = search.get("group") ?? "";
  const groups = [...new Set((data ?? []).flatMap((row) => row.groups))].sort();
  const words = search.get("words") ?? "";
  const asked = words.toLowerCase().split(/\s+/).filter(Boolean);
  const rows = (data ?? [])
    .filter((row) => !group || row.groups.includes(group))
    .filter((row) => asked.every((word) => wordsOf(row).includes(word)));
  const alike = rows.filter(({ kind }) => kind === "stamp");
  const pairs = pairsOf(alike, measure);
  const services = rows
    .filter(({ kind }) => kind !== "stamp")
    .sort((one, other) => badness(measure, other) - badness(measure, one) || one.name.localeCompare(other.name));
  const first = (pairs[0] && [...pairs[0].cells.values()][0]) ?? services[0];
  const chosen = number ? Number(number) : first?.id;
  const edit = search.get("edit");
  const isOverTime = search.get("as") === "courses";
  // The server tells of some hundreds at once; those beyond are shown by their figures.
  const drawn = isOverTime
    ? [...pairs.flatMap(({ cells }) => [...cells.values()]), ...services].slice(0, MOST_COURSES).map(({ id }) => id)
    : [];
  const { data: told } = useQuery(pathCoursesQuery(drawn, measure, time.range));
  const courses = new Map(isOverTime ? told?.rows.map(({ id, values }) => [id, values]) : []);
  const columns = [...new Set(alike.map((row) => row.dscp))].sort((one, other) => other - one);
  return (
    <div
      className={`grid h-full max-lg:h-auto max-lg:grid-cols-[minmax(0,1fr)] ${isOverTime ? "grid-cols-[minmax(0,1.2fr)_minmax(0,1fr)]" : "grid-cols-[minmax(340px,0.75fr)_minmax(0,1.25fr)]"}`}
    >
      <section
        aria-label="Paths"
        className={`min-h-0 overflow-auto border-r border-rule px-4 pt-2 pb-4 max-lg:border-r-0 ${number || edit ? "max-lg:hidden" : ""}`}
      >
        <div className="flex items-baseline justify-between gap-3">
          <h1 className="text-large font-semibold">
            Paths <span className="text-body font-normal text-ink2">{data && howMany(rows.length, data.length)}</span>
          </h1>
          {mayChange && (
            <button type="button" className="min-h-6 text-small underline" onClick={() => set({ edit: "new" })}>
              new path
            </button>
          )}
        </div>
        <div className="flex flex-wrap items-center gap-x-3 text-small">
          <InlineToggles label="Show" value="" options={LISTS} onChoose={(list) => set({ list })} />
        </div>
        <div className="flex flex-wrap items-center gap-x-3 text-small">
          <InlineToggles
            label="Figure"
            value={measure}
            options={MEASURES.map(([name, short]) => [name, short] as const)}
            onChoose={(name) => set({ measure: name === "path_delay_95" ? "" : name })}
          />
          {groups.length > 0 && (
            <InlineChoice
              label="group"
              value={group}
              options={[["", "all"], ...groups.map((name): [string, string] => [name, name])]}
              onChoose={(name) => set({ group: name })}
            />
          )}
          <InlineToggles label="As" value={isOverTime ? "courses" : ""} options={AS} onChoose={(as) => set({ as })} />
          <input
            type="search"
            aria-label="Search paths"
            placeholder="only…"
            className="min-h-6 w-24 min-w-0 grow border-b border-rule bg-transparent px-1 outline-none focus:border-ink"
            value={words}
            onChange={(event) => set({ words: event.target.value })}
          />
        </div>
        <p className="text-small text-ink2">
          {meaning}; the line is the first level of rules
          {isOverTime && "; the figure is that of the whole time, heights of a column can be compared"}
        </p>
        <Problem error={error} />
        {data?.length === 0 && <Nothing mayChange={mayChange} />}
        {data && data.length > 0 && rows.length === 0 && (
          <p className="py-2 text-ink2">No matching paths. Clear the search to see all.</p>
        )}
        {services.length > 0 && <Services rows={services} measure={measure} chosen={chosen} courses={courses} />}
        {pairs.length > 0 && (
          <Matrix pairs={pairs} columns={columns} measure={measure} chosen={chosen} courses={courses} />
        )}
        {Math.max(pairs.length, services.length) > MOST_LINES && (
          <p className="py-2 text-ink2">The worst {MOST_LINES}; search to see others.</p>
        )}
      </section>
      <section aria-label="Path" className="min-h-0 overflow-auto px-4 pt-2 pb-4">
        {number && (
          <Link className="inline-block min-h-6 underline lg:hidden" to={allPaths(search)}>
            all paths
          </Link>
        )}
        {edit === "new" ? (
          <PathForm path={null} onDone={() => set({ edit: "" })} />
        ) : (
          chosen !== undefined && <PathPage key={chosen} number={chosen} />
        )}
      </section>
    </div>
  );
}

function howMany(shown: number, all: number): string {
  const of = shown < all ? ` of ${all.toLocaleString("en-GB")}` : "";
  return `${shown.toLocaleString("en-GB")}${of}, worst first`;
}

/** The list as it was before one of its paths was opened. */
function allPaths(search: URLSearchParams): string {
  const kept = new URLSearchParams(search);
  kept.delete("edit");
  return `/paths?${kept}`;
}

function Nothing({ mayChange }: { mayChange: boolean }) {
  return (
    <p className="max-w-[440px] py-3 text-ink2">
      No path is measured yet. A path needs somebody at its far end who answers: a reflector of STAMP (RFC 8762), which
      many routers and every prober of Lumtar are, or a service that is asked.
      {mayChange && " Set the first one up with “new path”."}
    </p>
  );
}

type ServicesProps = { rows: PathRow[]; measure: PathMeasure; chosen: number | undefined; courses: Courses };

/** Services and echoes, one a line, since each takes as long as it does by its kind. */
function Services({ rows, measure, chosen, courses }: ServicesProps) {
  const [search] = useSearchParams();
  const most = Math.max(...rows.map((row) => top(measure, row)), 0.001);
  return (
    <>
      <h2 className="heading mt-1">Services</h2>
      <ul className="figures mb-3">
        {rows.slice(0, MOST_LINES).map((row) => (
          <li
            key={row.id}
            className="grid grid-cols-[minmax(0,1fr)_minmax(96px,0.6fr)] items-center gap-x-3 border-b border-faint"
          >
            <span className="truncate" title={row.problem || row.name}>
              <b className="font-medium">{row.name}</b>{" "}
              <span className={row.problem ? "text-critical" : "text-ink2"}>
                {row.problem || KINDS[row.kind]?.words}
              </span>
            </span>
            <Cell
              row={row}
              measure={measure}
              most={courses.has(row.id) ? reach(top(measure, row), [row], courses) : most}
              course={courses.get(row.id)}
              isChosen={row.id === chosen}
              to={`/paths/${row.id}?${search}`}
            />
          </li>
        ))}
      </ul>
    </>
  );
}

type MatrixProps = {
  pairs: Pair[];
  columns: number[];
  measure: PathMeasure;
  chosen: number | undefined;
  courses: Courses;
};

function Matrix({ pairs, columns, measure, chosen, courses }: MatrixProps) {
  const [search] = useSearchParams();
  const wide = courses.size ? 136 : 86;
  const grid = {
    gridTemplateColumns: `minmax(140px,1fr) repeat(${columns.length}, minmax(${wide}px,1fr))`,
    minWidth: 140 + (wide + 12) * columns.length,
  };
  const most = new Map(
    columns.map((dscp) => [dscp, Math.max(...pairs.map(({ cells }) => top(measure, cells.get(dscp))), 0.001)]),
  );
  const ofColumn = (dscp: number) => pairs.flatMap(({ cells }) => cells.get(dscp) ?? []);
  return (
    <div className="overflow-x-auto">
      <div className="grid gap-x-3 border-b border-rule text-small text-ink2" style={grid}>
        <span />
        {columns.map((dscp) => (
          <span key={dscp}>{className(dscp)}</span>
        ))}
      </div>
      <ul className="figures" style={{ minWidth: grid.minWidth }}>
        {pairs.slice(0, MOST_LINES).map((pair) => (
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
                  most={reach(most.get(dscp) ?? 1, ofColumn(dscp), courses)}
                  course={courses.get(row.id)}
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

/** What is highest over time of what stands side by side, so that heights can be compared. */
function reach(most: number, rows: PathRow[], courses: Courses): number {
  return Math.max(most, ...rows.flatMap(({ id }) => courses.get(id)?.map((value) => value ?? 0) ?? []));
}

type CellProps = {
  row: PathRow;
  measure: PathMeasure;
  most: number;
  isChosen: boolean;
  to: string;
  course: (number | null)[] | undefined;
};

function Cell({ row, measure, most, isChosen, to, course }: CellProps) {
  const value = row.figures[measure];
  const limit = firstLimit(measure, row);
  const isDead = row.figures.sent > 0 && row.figures.lost === row.figures.sent;
  const isBad = limit !== null && value !== null && (isLessWorse(measure) ? value < limit : value > limit);
  return (
    <Link
      to={to}
      aria-current={isChosen ? "true" : undefined}
      aria-label={`${row.name}: ${isDead ? "no answer" : shown(measure, value)}`}
      title={row.problem || row.name}
      className={`grid h-7 grid-cols-[minmax(0,1fr)_58px] items-center gap-2 px-1 hover:bg-lampsoft ${isChosen ? "bg-lampsoft" : ""}`}
    >
      {course ? (
        <SmallCourse values={course} most={most} limit={limit} isLessWorse={isLessWorse(measure)} />
      ) : (
        <span aria-hidden className="relative block h-3 bg-track">
          <span
            className={`absolute inset-y-0 left-0 ${isBad ? "bg-critical" : "bg-ink"}`}
            style={{ width: `${Math.min(100, (100 * (value ?? 0)) / most)}%` }}
          />
          {limit !== null && limit <= most && (
            <span className="absolute -inset-y-1 w-[2px] bg-critical" style={{ left: `${(100 * limit) / most}%` }} />
          )}
        </span>
      )}
      <span className={`text-right ${isBad || isDead ? "font-semibold text-critical" : ""}`}>
        {isDead ? "none" : shown(measure, value)}
      </span>
    </Link>
  );
}
