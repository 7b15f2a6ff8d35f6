import { useQuery } from "@tanstack/react-query";
import { Fragment, useState } from "react";
import { Link, useSearchParams } from "react-router";
import {
  type Choice,
  choicesQuery,
  moveQuery,
  movesQuery,
  type TransportMove,
  type WayOver,
} from "../../api/pathQueries";
import { useScreenTime } from "../../app/screenTime";
import { useSetSearch } from "../../app/useSetSearch";
import { moment, percent, wait } from "../../components/format";
import { InlineToggles } from "../../components/InlineToggles";
import { Problem } from "../../components/Problem";
import { LISTS } from "./pathWords";

/** Which transport each service class uses now, whether another one would do better, and when that changed. */
export function TransportsInUse() {
  const set = useSetSearch();
  const { data, error } = useQuery(choicesQuery);
  const asking = (data ?? []).filter(({ advice }) => advice);
  return (
    <div className="grid h-full grid-cols-[minmax(0,1fr)_360px] max-lg:h-auto max-lg:grid-cols-[minmax(0,1fr)]">
      <section aria-label="Transports in use" className="min-h-0 overflow-auto px-4 pt-2 pb-4">
        <h1 className="text-large font-semibold">
          Transports in use{" "}
          <span className="text-body font-normal text-ink2">
            {data &&
              `now; ${asking.length || "none"} of ${data.length} service classes at sites ${asking.length === 1 ? "is" : "are"} below the promise`}
          </span>
        </h1>
        <div className="text-small">
          <InlineToggles label="Show" value="transports" options={LISTS} onChoose={(list) => set({ list })} />
        </div>
        <Problem error={error} />
        {data?.length === 0 && (
          <p className="max-w-[560px] py-3 text-ink2">
            Nothing has a choice yet. A service class has one between two sites as soon as it is measured over two
            transports: give a path to each of them, and say at which port each transport is connected.
          </p>
        )}
        {data && data.length > 0 && <Choices rows={data} />}
      </section>
      <aside aria-label="Moves" className="min-h-0 overflow-auto border-l border-rule px-4 py-3 max-lg:border-l-0">
        <Moves />
      </aside>
    </div>
  );
}

const GRID =
  "grid-cols-[minmax(90px,0.7fr)_minmax(80px,0.5fr)_minmax(0,1fr)_minmax(0,1fr)] max-md:grid-cols-[minmax(0,1fr)]";

function Choices({ rows }: { rows: Choice[] }) {
  return (
    <>
      <p className="text-small text-ink2">
        95th percentile of round trips and loss in the last five minutes; what is in use is marked
      </p>
      <ul className="figures border-t border-rule">
        {rows.map((row) => (
          <li key={`${row.site} ${row.service_class}`} className="border-b border-faint py-[5px]">
            <div className={`grid ${GRID} items-baseline gap-x-3`}>
              <b className="font-medium">{row.site}</b>
              <span title={row.why}>{row.service_class}</span>
              {row.ways.map((way) => (
                <Way key={way.path_id} way={way} site={row.site} />
              ))}
            </div>
            {row.advice && <p className="text-small text-critical">{row.advice}</p>}
          </li>
        ))}
      </ul>
    </>
  );
}

/** A way over one transport: marked if it is in use. */
function Way({ way, site }: { way: WayOver; site: string }) {
  const words = way.is_measured
    ? way.loss_percent === 100
      ? "no answer"
      : `${wait(way.delay_ms ?? 0)}, ${percent(way.loss_percent ?? 0)} %`
    : "not measured";
  return (
    <Link
      to={`/paths/${way.path_id}`}
      className="min-w-0 truncate hover:underline"
      title={`${way.transport} of ${way.provider}${way.is_used ? ", in use" : ""}`}
    >
      <span className={way.is_used ? "marked px-1" : "px-1 text-ink2"}>{way.transport.replace(`${site} `, "")}</span>{" "}
      <span className={way.missed.length > 0 ? "font-medium text-critical" : "text-ink2"}>{words}</span>
    </Link>
  );
}

function Moves() {
  const time = useScreenTime();
  const { data } = useQuery(movesQuery(time.range));
  return (
    <>
      <h2 className="heading">
        Moves <span className="font-normal text-ink2">in the screen’s time</span>
      </h2>
      {data?.length === 0 && <p className="py-1 text-small text-ink2">Nothing moved.</p>}
      <ul className="text-small">
        {together(data ?? []).map((rows) => (
          <li key={rows[0].id} className="border-b border-faint py-1">
            {rows.length === 1 ? (
              <Move row={rows[0]} when={moment(new Date(rows[0].at))} />
            ) : (
              <MovesOfOneChange rows={rows} />
            )}
          </li>
        ))}
      </ul>
    </>
  );
}

function MovesOfOneChange({ rows }: { rows: [TransportMove, ...TransportMove[]] }) {
  const [search] = useSearchParams();
  const [isOpen, setOpen] = useState(() => rows.some(({ id }) => String(id) === search.get("move")));
  return (
    <details open={isOpen} onToggle={({ currentTarget }) => setOpen(currentTarget.open)}>
      <summary className="cursor-pointer">
        <b className="font-medium">{nameOf(rows[0], `${rows.length} sites`)}</b> {moment(new Date(rows[0].at))}
        <span className="block text-ink2">{rows[0].why}</span>
      </summary>
      {rows.map((row) => (
        <Move key={row.id} row={{ ...row, service_class: "", why: "" }} when="" />
      ))}
    </details>
  );
}

/** Moves that came of one change, such as another policy, in one place. */
function together(moves: TransportMove[]): [TransportMove, ...TransportMove[]][] {
  const found = new Map<string, [TransportMove, ...TransportMove[]]>();
  for (const row of moves) {
    const key = `${row.at} ${row.service_class} ${row.why}`;
    const same = found.get(key);
    if (same) same.push(row);
    else found.set(key, [row]);
  }
  return [...found.values()];
}

function nameOf(row: TransportMove, site: string): string {
  return row.service_class ? `${site}, ${row.service_class}` : site;
}

function Move({ row, when }: { row: TransportMove; when: string }) {
  const set = useSetSearch();
  const [search] = useSearchParams();
  const isOpen = search.get("move") === String(row.id);
  return (
    <>
      <button
        type="button"
        className="min-h-6 w-full text-left hover:underline"
        aria-expanded={isOpen}
        onClick={() => set({ move: isOpen ? "" : String(row.id) })}
      >
        <b className="font-medium">{nameOf(row, row.site)}</b> {when}
      </button>
      <p className="text-ink2">
        {row.from_transport} → {row.to_transport}
        {row.why && `: ${row.why}`}
      </p>
      {isOpen && <BeforeAndAfter move={row} />}
    </>
  );
}

/** Each service class a quarter of an hour before and after a move. */
function BeforeAndAfter({ move }: { move: TransportMove }) {
  const { data } = useQuery(moveQuery(move.id));
  return (
    <dl className="figures grid grid-cols-[minmax(0,1fr)_auto_auto] gap-x-4 py-1">
      <dt className="text-ink2">delay, lost</dt>
      <dd className="text-right text-ink2">before</dd>
      <dd className="text-right text-ink2">after</dd>
      {(data ?? []).map((row) => (
        <Fragment key={row.service_class}>
          <dt>{row.service_class}</dt>
          <dd className="text-right">{figure(row.before)}</dd>
          <dd className="text-right">{figure(row.after)}</dd>
        </Fragment>
      ))}
    </dl>
  );
}

function figure([delay, , loss]: (number | null)[]): string {
  if (loss === null || loss === undefined) return "–";
  return loss === 100 ? "no answer" : `${wait(delay ?? 0)}, ${percent(loss)} %`;
}
