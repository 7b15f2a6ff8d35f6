import { useCallback, useEffect, useMemo, useState } from "react";
import { useSearchParams } from "react-router";
import type { Range } from "../api/queries";

export const SPANS: [string, string, number][] = [
  ["10min", "10 min", 600],
  ["1h", "1 h", 3600],
  ["24h", "24 h", 86400],
  ["7d", "7 d", 7 * 86400],
  ["30d", "30 d", 30 * 86400],
  ["1y", "1 y", 365 * 86400],
];
const DEFAULT = "24h";
const MINUTE = 60_000;

export type ScreenTime = {
  /** Whether the screen follows now. */
  following: boolean;
  /** Name of the span that is followed, or null for a range of its own. */
  span: string | null;
  start: Date;
  end: Date;
  /** The past time of the whole screen for the API, or null for now. */
  at: string | null;
  range: Range;
};

/** The next whole minute: while now is followed, the range changes once a minute and not at every look. */
const nextMinute = () => Math.ceil((Date.now() + 1) / MINUTE) * MINUTE;

function useMinute(): number {
  const [minute, setMinute] = useState(nextMinute);
  useEffect(() => {
    const timer = setInterval(() => setMinute(nextMinute()), 5_000);
    return () => clearInterval(timer);
  }, []);
  return minute;
}

/** The one time that governs the whole screen; it lives in the URL. */
export function useScreenTime(): ScreenTime {
  const [search] = useSearchParams();
  const minute = useMinute();
  const from = search.get("from");
  const to = search.get("to");
  const span = search.get("span") ?? DEFAULT;
  return useMemo(() => {
    const chosen = from && to ? [new Date(from), new Date(to)] : null;
    const [start, end] = chosen ?? [];
    if (start && end && start < end) {
      return {
        following: false,
        span: null,
        start,
        end,
        at: end.toISOString(),
        range: { start: start.toISOString(), end: end.toISOString() },
      };
    }
    const known = SPANS.find(([name]) => name === span) ?? SPANS.find(([name]) => name === DEFAULT);
    const seconds = known?.[2] ?? 86400;
    const until = new Date(minute);
    const since = new Date(minute - seconds * 1000);
    return {
      following: true,
      span: known?.[0] ?? DEFAULT,
      start: since,
      end: until,
      at: null,
      range: { start: since.toISOString(), end: until.toISOString() },
    };
  }, [from, to, span, minute]);
}

const TIME_KEYS = ["from", "to", "span"];

/** Changing the screen's time: a past range, or following now over a span. */
export function useSetScreenTime() {
  const [, setSearch] = useSearchParams();
  const show = useCallback(
    (start: Date, end: Date) =>
      setSearch((search) => {
        const next = new URLSearchParams(search);
        next.delete("span");
        next.set("from", start.toISOString());
        next.set("to", new Date(Math.min(end.getTime(), Date.now())).toISOString());
        return next;
      }),
    [setSearch],
  );
  const follow = useCallback(
    (span?: string) =>
      setSearch((search) => {
        const next = new URLSearchParams(search);
        for (const key of TIME_KEYS) next.delete(key);
        if (span && span !== DEFAULT) next.set("span", span);
        return next;
      }),
    [setSearch],
  );
  return { show, follow };
}

/** The part of the URL's search that every link keeps: the screen's time. */
export function useTimeSearch(): (more?: Record<string, string | undefined>) => string {
  const [search] = useSearchParams();
  return useCallback(
    (more = {}) => {
      const next = new URLSearchParams();
      for (const key of TIME_KEYS) {
        const value = search.get(key);
        if (value) next.set(key, value);
      }
      for (const [key, value] of Object.entries(more)) if (value) next.set(key, value);
      const text = next.toString();
      return text ? `?${text}` : "";
    },
    [search],
  );
}
