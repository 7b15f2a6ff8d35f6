import type { Schemas } from "../../api/client";
import { instant, wallClock } from "../calling/wallClock";

type Stored = Schemas["MaintenanceOut"];
export type Part = { kind: "sites" | "groups" | "devices" | "interfaces"; id: number | string; words: string };

/** A maintenance while it is written: times as the clock on the wall shows them. */
export type MaintenanceDraft = {
  name: string;
  reason: string;
  start: string;
  end: string;
  repeats: string;
  parts: Part[];
};

/** How often, for most; anything else is written as a recurrence rule of RFC 5545. */
export const REPEATS: readonly [string, string][] = [
  ["", "once"],
  ["FREQ=DAILY", "every day"],
  ["FREQ=WEEKLY", "every week"],
  ["FREQ=WEEKLY;INTERVAL=2", "every two weeks"],
  ["FREQ=MONTHLY", "every month on this day"],
];

export const repeatWords = (rule: string) => REPEATS.find(([text]) => text === rule)?.[1] ?? rule;

export function draftOf(stored: Stored | undefined, parts: Part[], now = new Date()): MaintenanceDraft {
  const start = new Date(now);
  start.setMinutes(0, 0, 0);
  start.setHours(start.getHours() + 1);
  const [begin, end] = stored
    ? [new Date(stored.start), new Date(stored.end)]
    : [start, new Date(start.getTime() + 2 * 3_600_000)];
  return {
    name: stored?.name ?? "",
    reason: stored?.reason ?? "",
    start: wallClock(begin),
    end: wallClock(end),
    repeats: stored?.repeats ?? "",
    parts,
  };
}

export function bodyOf(draft: MaintenanceDraft, zone: string): Schemas["MaintenanceIn"] {
  const { parts, start, end, ...rest } = draft;
  const of = (kind: Part["kind"]) => parts.filter((part) => part.kind === kind).map(({ id }) => id);
  return {
    ...rest,
    zone,
    start: instant(start),
    end: instant(end),
    sites: of("sites") as string[],
    groups: of("groups") as number[],
    devices: of("devices") as number[],
    interfaces: of("interfaces") as number[],
  };
}
