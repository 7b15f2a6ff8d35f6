import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import type { Schemas } from "../../api/client";
import { maintenanceCalendarQuery } from "../../api/queries";
import { clock, day, month } from "../../components/format";

const DAY_MS = 86_400_000;
const DAYS = 28;

type Occurrence = Schemas["OccurrenceOut"];
type Props = { open: number | null; onOpen: (id: number) => void };

/** Four weeks of maintenance, a line each, from Monday on. */
export function MaintenanceCalendar({ open, onOpen }: Props) {
  const [weeks, setWeeks] = useState(0);
  const start = monday(weeks);
  const end = new Date(start.getTime() + DAYS * DAY_MS);
  const { data } = useQuery(maintenanceCalendarQuery({ start: start.toISOString(), end: end.toISOString() }));
  const lines = new Map<number, Occurrence[]>();
  for (const each of data ?? []) lines.set(each.maintenance, [...(lines.get(each.maintenance) ?? []), each]);
  const now = (Date.now() - start.getTime()) / (DAYS * DAY_MS);
  return (
    <div className="mt-2">
      <p className="flex items-baseline gap-3">
        <button type="button" className="min-h-6 underline" onClick={() => setWeeks(weeks - 4)}>
          Earlier
        </button>
        <span className="figures">
          {start.getDate()} {month(start)} – {new Date(end.getTime() - DAY_MS).getDate()}{" "}
          {month(new Date(end.getTime() - DAY_MS))}
        </span>
        <button type="button" className="min-h-6 underline" onClick={() => setWeeks(weeks + 4)}>
          Later
        </button>
        {weeks !== 0 && (
          <button type="button" className="min-h-6 underline" onClick={() => setWeeks(0)}>
            This week
          </button>
        )}
      </p>
      <div className="@container relative mt-1 overflow-hidden border-t border-rule">
        <div className="absolute inset-0 grid" style={{ gridTemplateColumns: `repeat(${DAYS}, minmax(0, 1fr))` }}>
          {Array.from({ length: DAYS }, (_, number) => {
            const at = new Date(start.getTime() + number * DAY_MS);
            const isWeekend = at.getDay() % 6 === 0;
            return (
              <span
                key={at.getTime()}
                className={`border-l border-faint pl-0.5 text-tiny text-ink2 ${isWeekend ? "bg-rule/40" : ""}`}
              >
                {number % 7 === 0 ? day(at).split(" ")[1] : ""}
              </span>
            );
          })}
        </div>
        <ul className="relative min-h-[60px] pt-5 pb-2">
          {[...lines].map(([id, occurrences]) => (
            <li key={id} className={`relative h-[26px] ${id === open ? "bg-lampsoft" : ""}`}>
              {occurrences.map((each, place) => (
                <Bar key={each.start} each={each} start={start} isNamed={place === 0} onOpen={() => onOpen(id)} />
              ))}
            </li>
          ))}
          {data?.length === 0 && <li className="py-2 pl-2 text-ink2">None in these four weeks.</li>}
        </ul>
        {now >= 0 && now <= 1 && (
          <span className="absolute inset-y-0 w-px bg-ink" style={{ left: `${100 * now}%` }} aria-hidden="true" />
        )}
      </div>
    </div>
  );
}

type BarProps = { each: Occurrence; start: Date; isNamed: boolean; onOpen: () => void };

function Bar({ each, start, isNamed, onOpen }: BarProps) {
  const [from, to] = [each.start, each.end].map((at) => (new Date(at).getTime() - start.getTime()) / (DAYS * DAY_MS));
  const [left, right] = [Math.max(0, from as number), Math.min(1, to as number)];
  // Near the end its name stands before it.
  const isLate = left > 0.78;
  const begin = new Date(each.start);
  const words = `${each.name}: ${day(begin)} ${clock(begin)} to ${clock(new Date(each.end))}, ${each.about.join(", ")}`;
  return (
    <button
      type="button"
      title={words}
      aria-label={words}
      className={`absolute top-0 flex h-6 items-center gap-1 whitespace-nowrap ${isLate ? "flex-row-reverse" : ""}`}
      style={isLate ? { right: `${100 * (1 - right)}%` } : { left: `${100 * left}%` }}
      onClick={onOpen}
    >
      <span
        className="block h-3 min-w-[6px] shrink-0 border border-ink bg-[repeating-linear-gradient(135deg,var(--ink)_0_1px,transparent_1px_4px)]"
        style={{ width: `calc(${100 * (right - left)}cqw)` }}
      />
      {isNamed && <span className="text-tiny">{each.name}</span>}
    </button>
  );
}

function monday(weeks: number): Date {
  const at = new Date();
  at.setHours(0, 0, 0, 0);
  at.setDate(at.getDate() - ((at.getDay() + 6) % 7) + 7 * weeks);
  return at;
}
