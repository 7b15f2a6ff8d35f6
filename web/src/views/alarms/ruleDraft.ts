import type { Schemas } from "../../api/client";

export type RuleOut = Schemas["RuleOut"];
export type Vocabulary = Schemas["Vocabulary"];
export type DraftLevel = { key: number; severity: number; limit: string; clear: string; why: string };

/** A rule while it is written: numbers as they are typed, rates in Mb/s, times in minutes. */
export type Draft = {
  name: string;
  measure: string;
  statistic: string;
  minutes: string;
  scope: string;
  enabled: boolean;
  above: boolean;
  levels: DraftLevel[];
  /** In a row or of the last values, or for a time. */
  held: "times" | "for";
  holdMinutes: string;
  times: string;
  of: string;
  instructions: string;
  planId: number | null;
};

type Given = Required<Omit<Schemas["RuleIn"], "levels">> & { levels: (Schemas["LevelIO"] & { why?: string })[] };

const subjectOf = (words: Vocabulary, measure: string) => words.measures.find(({ name }) => name === measure);

/** The unit of what a draft compares, as it is typed. */
export function unitOf(words: Vocabulary, { measure, statistic }: Pick<Draft, "measure" | "statistic">): string {
  const own = words.statistics.find(({ name }) => name === statistic)?.unit ?? "{unit}";
  return own.replace("{unit}", subjectOf(words, measure)?.unit ?? "").replace("bit/s", "Mb/s");
}

const factorOf = (words: Vocabulary, draft: Pick<Draft, "measure" | "statistic">) =>
  unitOf(words, draft).startsWith("Mb/s") ? 1e6 : 1;

export function draftOf(words: Vocabulary, given: Given): Draft {
  const factor = factorOf(words, { measure: given.measure, statistic: given.statistic });
  return {
    name: given.name,
    measure: given.measure,
    statistic: given.statistic,
    minutes: String(given.window_s / 60),
    scope: given.scope,
    enabled: given.enabled,
    above: given.above,
    levels: given.levels.map((level, key) => ({
      key,
      severity: level.severity,
      limit: String(level.limit / factor),
      clear: String(level.clear / factor),
      why: level.why ?? "",
    })),
    held: given.hold_s ? "for" : "times",
    holdMinutes: String(given.hold_s / 60 || 10),
    times: String(given.times),
    of: String(given.of),
    instructions: given.instructions,
    planId: given.plan_id,
  };
}

/** What is sent of a draft; a statistic of each value has no window, and one of the two ways of holding is left out. */
export function bodyOf(words: Vocabulary, draft: Draft): Schemas["RuleIn"] {
  const factor = factorOf(words, draft);
  const hasWindow = words.statistics.find(({ name }) => name === draft.statistic)?.has_window ?? false;
  const isFor = draft.held === "for";
  return {
    name: draft.name,
    measure: draft.measure,
    statistic: draft.statistic,
    window_s: hasWindow ? Math.round(Number(draft.minutes) * 60) : 0,
    scope: subjectOf(words, draft.measure)?.subject === "interface" ? draft.scope : "",
    enabled: draft.enabled,
    above: draft.above,
    levels: draft.levels
      .map(({ severity, limit, clear }) => ({
        severity,
        limit: Number(limit) * factor,
        clear: Number(clear) * factor,
      }))
      .sort((one, other) => one.severity - other.severity),
    hold_s: isFor ? Math.round(Number(draft.holdMinutes) * 60) : 0,
    times: isFor ? 1 : Number(draft.times),
    of: isFor ? 1 : Math.max(Number(draft.times), Number(draft.of)),
    instructions: draft.instructions,
    plan_id: draft.planId,
  };
}

/** A further level: the next severity that is not taken, with the limits of the last one to go on from. */
export function furtherLevel(levels: DraftLevel[]): DraftLevel {
  const last = levels[levels.length - 1];
  const worst = Math.max(1, ...levels.map(({ severity }) => severity));
  const free = [worst + 1, 5, 4, 3, 2, 1].find(
    (each) => each <= 5 && levels.every(({ severity }) => severity !== each),
  );
  const key = Math.max(-1, ...levels.map((level) => level.key)) + 1;
  return { key, severity: free ?? 5, limit: last?.limit ?? "", clear: last?.clear ?? "", why: "" };
}

export const BLANK: Given = {
  name: "",
  measure: "load",
  statistic: "mean",
  window_s: 600,
  scope: "",
  enabled: true,
  above: true,
  levels: [{ severity: 4, limit: 90, clear: 80 }],
  hold_s: 0,
  times: 1,
  of: 1,
  instructions: "",
  plan_id: null,
};
