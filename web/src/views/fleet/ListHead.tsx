import { useEffect, useState } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";
import { Picked } from "./Picked";
import { useTrail } from "./trail";

const SORTS: [string, string][] = [
  ["load", "load"],
  ["in", "in"],
  ["out", "out"],
  ["errors", "errors"],
  ["name", "device"],
];

/** What the list holds, and how: ports or devices, words to look for, order. */
export function ListHead({
  title,
  count,
  list,
}: {
  title: string;
  count: string;
  list: "ports" | "grid" | "total" | "live" | "devices" | "inventory" | "links" | "stations" | "wireless" | "power";
}) {
  const trail = useTrail();
  const navigate = useNavigate();
  const [search] = useSearchParams();
  const kept = search.get("words") ?? "";
  const [words, setWords] = useState(kept);
  useEffect(() => {
    if (words === kept) return;
    const timer = setTimeout(() => navigate(trail.stay({ words }), { replace: true }), 250);
    return () => clearTimeout(timer);
  });
  const device = search.get("device");
  const mark = (on: boolean) => (on ? "marked" : "text-ink2 hover:text-ink");
  const sort = search.get("sort") ?? "load";
  return (
    <header className="border-b border-rule px-3.5 pt-3 pb-1.5">
      <h2 className="flex justify-between gap-2 text-small font-semibold">
        <span className="truncate">{title}</span>
        <span className="font-normal whitespace-nowrap text-ink2">{count}</span>
      </h2>
      <div className="mt-1 flex flex-wrap items-center gap-x-2.5 gap-y-2.5 text-small">
        {device ? (
          <Link to={trail.stay({ device: null })} className="text-ink2 underline">
            all of the site
          </Link>
        ) : (
          <>
            <Link to={trail.stay({ list: null })} className={mark(list === "ports")}>
              ports
            </Link>
            <Link to={trail.stay({ list: "grid" })} className={mark(list === "grid")}>
              grid
            </Link>
            <Link to={trail.stay({ list: "total" })} className={mark(list === "total")}>
              total
            </Link>
            <Link to={trail.stay({ list: "devices" })} className={mark(list === "devices")}>
              devices
            </Link>
            <Link to={trail.stay({ list: "inventory" })} className={mark(list === "inventory")}>
              inventory
            </Link>
            <Link to={trail.stay({ list: "links" })} className={mark(list === "links")}>
              links
            </Link>
            <Link to={trail.stay({ list: "stations" })} className={mark(list === "stations")}>
              stations
            </Link>
            <Link to={trail.stay({ list: "wireless" })} className={mark(list === "wireless")}>
              wireless
            </Link>
            <Link to={trail.stay({ list: "power" })} className={mark(list === "power")}>
              power
            </Link>
          </>
        )}
        {list === "ports" && (
          <label className="text-ink2">
            by{" "}
            <select
              className="bg-paper text-ink underline"
              value={sort}
              onChange={(event) => navigate(trail.stay({ sort: event.target.value }), { replace: true })}
            >
              {SORTS.map(([name, label]) => (
                <option key={name} value={name}>
                  {label}
                </option>
              ))}
            </select>
          </label>
        )}
        {list !== "live" && (
          <input
            type="search"
            aria-label="Search"
            placeholder="only…"
            className="w-24 min-w-0 grow border-b border-rule bg-transparent px-1 outline-none focus:border-ink"
            value={words}
            onChange={(event) => setWords(event.target.value)}
          />
        )}
      </div>
      <Picked list={list} />
    </header>
  );
}
