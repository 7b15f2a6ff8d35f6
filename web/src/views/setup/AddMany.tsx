import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { readLines } from "../../api/lines";
import { sitesQuery } from "../../api/queries";
import { listQuery } from "../../api/setupQueries";
import { Problem } from "../../components/Problem";
import { left } from "./list";

type Line = Schemas["LineIO"];
export type Result = { number: number; went: "added" | "known" | "wrong" | "answers"; words: string; device?: number };

const EXAMPLE = `address, name, site, groups, tags, credential
127.0.0.1, sal-wan-1, Saltby, WAN, owner=it; floor=2,
::1, , Depot, , , `;

/** Many devices at once: what is wrong with a line stands beside it, what answers is added, the rest stays to be mended. */
export function AddMany() {
  const [text, setText] = useState("");
  const [asked, setAsked] = useState("");
  const [site, setSite] = useState("");
  const [results, setResults] = useState<Map<number, Result>>(new Map());
  const [run, setRun] = useState<{ began: number; total: number; add: boolean } | null>(null);
  const [problem, setProblem] = useState<Error | null>(null);
  const abort = useRef<AbortController>(null);
  const queries = useQueryClient();
  const { data: sites } = useQuery(sitesQuery);
  const { data: list, error } = useQuery(listQuery(asked));
  useEffect(() => () => abort.current?.abort(), []);
  useEffect(() => {
    const timer = setTimeout(() => setAsked(text), 300);
    return () => clearTimeout(timer);
  }, [text]);

  const change = (next: string) => {
    setText(next);
    setResults(new Map());
  };
  const ready = list?.lines.filter((line) => !line.problem && !line.known) ?? [];
  const start = async (add: boolean) => {
    const mine = new AbortController();
    abort.current = mine;
    setProblem(null);
    setResults(new Map());
    setRun({ began: Date.now(), total: ready.length, add });
    const collected = new Map<number, Result>();
    try {
      await readLines<Result>(
        "devices/list/add",
        { lines: ready, site, add },
        (result) => {
          collected.set(result.number, result);
          setResults(new Map(collected));
        },
        mine.signal,
      );
    } catch (met) {
      if (!mine.signal.aborted) setProblem(met as Error);
    }
    setRun(null);
    void queries.invalidateQueries();
  };
  const added = [...results.values()].filter((result) => result.went === "added");
  return (
    <div className="grid h-full grid-rows-[auto_auto_minmax(0,1fr)]">
      <header className="flex items-baseline gap-3">
        <h1 className="text-title font-semibold tracking-tight">Add a list</h1>
        <span className="text-ink2">
          Addresses, or CSV with a header: address, port, name, site, groups, tags, credential, interval, way, own
          fields.
        </span>
        <a href="/api/v1/devices.csv" className="ml-auto whitespace-nowrap underline" download>
          all devices as such a list
        </a>
      </header>
      <div className="py-2">
        <textarea
          aria-label="The list"
          className="field figures block h-[120px] w-full resize-y text-small whitespace-pre"
          placeholder={EXAMPLE}
          value={text}
          onChange={(event) => change(event.target.value)}
          disabled={run !== null}
        />
        <div className="flex flex-wrap items-center gap-2 pt-2">
          <input
            type="file"
            className="file:mr-2 file:rounded file:border file:border-solid file:border-ink file:bg-sheet file:px-2.5 file:py-[3px]"
            aria-label="From a file"
            accept=".csv,.txt,text/*"
            onChange={async (event) => {
              const file = event.target.files?.[0];
              if (file) change(await decoded(file));
            }}
          />
          <label className="flex items-center gap-1.5">
            Site for lines without one
            <input className="field w-36" list="sites" value={site} onChange={(event) => setSite(event.target.value)} />
          </label>
          <datalist id="sites">
            {sites?.map((each) => each.name && <option key={each.name} value={each.name} />)}
          </datalist>
          <button type="button" className="button" disabled={!ready.length || run !== null} onClick={() => start(true)}>
            Try and add {ready.length || ""}
          </button>
          <button
            type="button"
            className="button"
            disabled={!ready.length || run !== null}
            onClick={() => start(false)}
          >
            Only try
          </button>
          {run && (
            <button type="button" className="button" onClick={() => abort.current?.abort()}>
              Stop
            </button>
          )}
          {!run && added.length > 0 && list && (
            <button type="button" className="button" onClick={() => change(left(text, list, results))}>
              Keep only what is left to mend
            </button>
          )}
        </div>
      </div>
      <section className="min-h-0 overflow-auto" aria-label="The lines">
        <Problem error={error ?? problem} />
        {text && list?.problem && <p className="text-critical">{list.problem}</p>}
        {list && list.lines.length > 0 && <Summary list={list} results={results} run={run} />}
        <table className="figures w-full">
          <tbody>
            {list?.lines.map((line) => (
              <LineRow
                key={`${line.number} ${line.address}`}
                line={line}
                result={results.get(line.number)}
                waiting={run !== null}
              />
            ))}
          </tbody>
        </table>
      </section>
    </div>
  );
}

function Summary({
  list,
  results,
  run,
}: {
  list: Schemas["ListOut"];
  results: Map<number, Result>;
  run: { total: number; add: boolean } | null;
}) {
  const bad = list.lines.filter((line) => line.problem).length;
  const known = list.lines.filter((line) => line.known && !results.has(line.number)).length;
  const went = (what: string) => [...results.values()].filter((result) => result.went === what).length;
  const counts = results.size
    ? [
        [went("added"), "added"],
        [went("answers"), "answer"],
        [went("wrong"), "did not answer"],
        [went("known") + known, "there already"],
        [bad, "have a problem"],
      ]
    : [
        [list.lines.length - bad - known, "can be tried"],
        [known, "there already"],
        [bad, "have a problem"],
      ];
  return (
    <p className="heading" aria-live="polite">
      {run
        ? `${results.size} of ${run.total} tried`
        : `${list.lines.length} ${list.lines.length === 1 ? "line" : "lines"}`}
      <span className="font-normal text-ink2">
        {counts
          .filter(([count]) => count)
          .map(([count, words]) => `${count} ${words}`)
          .join(" · ")}
      </span>
      {run && <progress className="h-2 w-40 self-center" max={run.total} value={results.size} aria-label="tried" />}
    </p>
  );
}

function LineRow({ line, result, waiting }: { line: Line; result: Result | undefined; waiting: boolean }) {
  const wrong = line.problem || (result?.went === "wrong" ? result.words : "");
  const summary =
    result && result.went !== "wrong"
      ? result.words
      : line.known
        ? `is there already as ${line.known}`
        : waiting && !line.problem
          ? "being tried"
          : "";
  return (
    <tr className="border-b border-faint align-baseline">
      <td className="w-10 py-1 pr-2 text-right text-ink2">{line.number}</td>
      <td className="w-[190px] max-w-[190px] truncate py-1 pr-3">
        {line.address}
        {line.port !== 161 && line.way !== "icmp" && <span className="text-ink2"> {line.port}</span>}
      </td>
      <td className="w-[150px] max-w-[150px] truncate py-1 pr-3">{line.name}</td>
      <td className="w-[110px] max-w-[110px] truncate py-1 pr-3 text-ink2">{line.site}</td>
      <td className="w-[120px] max-w-[120px] truncate py-1 pr-3 text-ink2">
        {line.credential || (line.way === "snmp" ? "" : line.way?.toUpperCase())}
      </td>
      <td className="py-1">
        {wrong ? (
          <span className="text-critical">{wrong}</span>
        ) : result?.device ? (
          <Link to={`/fleet/device/${result.device}`} className="underline">
            {summary}
          </Link>
        ) : (
          <span className="text-ink2">{summary}</span>
        )}
      </td>
    </tr>
  );
}

/** A file's text, in whatever encoding: the other side finds out which. */
async function decoded(file: File): Promise<string> {
  const bytes = await file.arrayBuffer();
  try {
    return new TextDecoder("utf-8", { fatal: true }).decode(bytes);
  } catch {
    return new TextDecoder(new Uint8Array(bytes)[0] === 0xff ? "utf-16le" : "latin1").decode(bytes);
  }
}
