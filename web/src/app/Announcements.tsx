import { useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { Link } from "react-router";
import type { Schemas } from "../api/client";
import { worstQuery } from "../api/queries";
import { counted } from "../components/format";
import { Severity } from "../components/Severity";
import { newOf, type Seen } from "./newAlarms";
import { play } from "./sound";

const SHOWN_FOR_MS = 20_000;
const SHOWN = 3;
type Row = Schemas["AlarmRow"];

/** New alarms, said at the foot of the screen for a while, whatever view is open; heard as well if somebody wants that. */
export function Announcements() {
  const { data } = useQuery(worstQuery);
  const seen = useRef<Seen | null>(null);
  const [fresh, setFresh] = useState<Row[]>([]);
  useEffect(() => {
    if (!data) return;
    const found = newOf(data.rows, seen.current);
    seen.current = found.seen;
    if (!found.fresh.length) return;
    setFresh(found.fresh);
    play(Math.max(...found.fresh.map(({ severity }) => severity)));
  }, [data]);
  useEffect(() => {
    if (!fresh.length) return;
    const timer = setTimeout(() => setFresh([]), SHOWN_FOR_MS);
    return () => clearTimeout(timer);
  }, [fresh]);
  return (
    <div role="status" className="fixed right-3 bottom-9 z-10 max-w-[min(420px,calc(100vw-24px))]">
      {fresh.length > 0 && (
        <div className="border border-ink bg-sheet px-3 py-2 shadow-lg">
          <p className="flex items-baseline gap-3">
            <b className="font-semibold">{counted(fresh.length, "new alarm")}</b>
            <button type="button" className="ml-auto min-h-6 text-ink2 underline" onClick={() => setFresh([])}>
              Dismiss
            </button>
          </p>
          {fresh.slice(0, SHOWN).map((row) => (
            <Link
              key={row.id}
              to={`/alarms/${row.id}`}
              className="flex items-center gap-2 py-0.5 hover:underline"
              onClick={() => setFresh([])}
            >
              <Severity level={row.severity} />
              <span className="min-w-0 truncate">
                {row.label} <span className="text-ink2">{row.text}</span>
              </span>
            </Link>
          ))}
        </div>
      )}
    </div>
  );
}
