import type { Schemas } from "../../api/client";

export type RuleOut = Schemas["RuleOut"];
export type Vocabulary = Schemas["Vocabulary"];
export type Direction = Schemas["RuleIn"]["direction"] & string;
export type Reference = Schemas["RuleIn"]["reference"] & string;
export type DraftLevel = {
  key: number;
  severity: number;
  limit: string;
  clear: string;
  /** The other side of a range. */
  low: string;
  lowClear: string;
  why: string;
};

/** A rule while it is written: numbers as they are typed, rates in Mb/s, times in minutes. */
export type Draft = {
  name: string;
  measure: string;
  statistic: string;
  minutes: string;
  scope: string;
  enabled: boolean;
  direction: Direction;
  reference: Reference;
  /** Days from which nothing is learned, separated by commas. */
  without: string;
  hours: string;
  zone: string;
  levels: DraftLevel[];
  /** In a row or of the last values, or for a time. */
  held: "times" | "for";
  holdMinutes: string;
  times: string;
  of: string;
  raiseText: string;
  clearText: string;
  instructions: string;
  planId: number | null;
};

type Given = Required<Omit<Schemas["RuleIn"], "levels" | "direction" | "reference">> & {
  direction: string;
  reference: string;
  levels: (Schemas["LevelIO"] & { why?: string })[];
};

const measureOf = (words: Vocabulary, measure: string) => words.measures.find(({ name }) => name === measure);

/** The kind of subject that a measure, or the first one in a formula, is about. */
export function subjectOf(words: Vocabulary, measure: string): string {
  const named = measure.match(/[A-Za-z_]\w*/g) ?? [];
  return named.map((name) => measureOf(words, name)?.subject).find(Boolean) ?? "interface";
}

/** The unit of what a draft compares, as it is typed. */
export function unitOf(words: Vocabulary, draft: Pick<Draft, "measure" | "statistic" | "reference">): string {
  return words.references.find(({ name }) => name === draft.reference)?.unit ?? ownUnit(words, draft);
}

/** The unit of the measure itself, whatever it is compared with. */
export function ownUnit(words: Vocabulary, { measure, statistic }: Pick<Draft, "measure" | "statistic">): string {
  const own = words.statistics.find(({ name }) => name === statistic)?.unit ?? "{unit}";
  return own.replace("{unit}", measureOf(words, measure)?.unit ?? "").replace("bit/s", "Mb/s");
}

const factorOf = (words: Vocabulary, draft: Pick<Draft, "measure" | "statistic" | "reference">) =>
  unitOf(words, draft).startsWith("Mb/s") ? 1e6 : 1;

export function draftOf(words: Vocabulary, given: Given): Draft {
  const reference = given.reference as Reference;
  const factor = factorOf(words, { measure: given.measure, statistic: given.statistic, reference });
  const typed = (value: number | null | undefined) => (value == null ? "" : String(value / factor));
  return {
    name: given.name,
    measure: given.measure,
    statistic: given.statistic,
    minutes: String(given.window_s / 60),
    scope: given.scope,
    enabled: given.enabled,
    direction: given.direction as Direction,
    reference,
    without: given.without.join(", "),
    hours: given.hours,
    zone: given.zone,
    levels: given.levels.map((level, key) => ({
      key,
      severity: level.severity,
      limit: typed(level.limit),
      clear: typed(level.clear),
      low: typed(level.low),
      lowClear: typed(level.low_clear),
      why: level.why ?? "",
    })),
    held: given.hold_s ? "for" : "times",
    holdMinutes: String(given.hold_s / 60 || 10),
    times: String(given.times),
    of: String(given.of),
    raiseText: given.raise_text,
    clearText: given.clear_text,
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
    scope: draft.scope,
    enabled: draft.enabled,
    direction: draft.direction,
    reference: draft.reference,
    without: draft.without.split(/[\s,;]+/).filter(Boolean),
    hours: draft.hours,
    zone: draft.zone,
    levels: draft.levels
      .map((level) => levelOf(draft, level, factor))
      .sort((one, other) => one.severity - other.severity),
    hold_s: isFor ? Math.round(Number(draft.holdMinutes) * 60) : 0,
    times: isFor ? 1 : Number(draft.times),
    of: isFor ? 1 : Math.max(Number(draft.times), Number(draft.of)),
    raise_text: draft.raiseText,
    clear_text: draft.clearText,
    instructions: draft.instructions,
    plan_id: draft.planId,
  };
}

function levelOf({ direction, reference }: Draft, level: DraftLevel, factor: number): Schemas["LevelIO"] {
  const { severity } = level;
  const [limit, clear] = [Number(level.limit) * factor, Number(level.clear) * factor];
  if (direction === "equal" || direction === "changed") return { severity, limit, clear: limit };
  if (direction !== "outside") return { severity, limit, clear };
  // So far from normal to either side.
  if (reference) return { severity, limit, clear, low: -limit, low_clear: -clear };
  return { severity, limit, clear, low: Number(level.low) * factor, low_clear: Number(level.lowClear) * factor };
}

/** A further level: the next severity that is not taken, with the limits of the last one to go on from. */
export function furtherLevel(levels: DraftLevel[]): DraftLevel {
  const last = levels[levels.length - 1];
  const worst = Math.max(1, ...levels.map(({ severity }) => severity));
  const free = [worst + 1, 5, 4, 3, 2, 1].find(
    (each) => each <= 5 && levels.every(({ severity }) => severity !== each),
  );
  const key = Math.max(-1, ...levels.map((level) => level.key)) + 1;
  return { ...(last ?? NO_LEVEL), key, severity: free ?? 5, why: "" };
}

const NO_LEVEL = { limit: "", clear: "", low: "", lowClear: "" };

/** Levels to begin with, of a size that makes sense in a unit. */
export function firstLevels(unit: string): Given["levels"] {
  const size = unit === "bit/s" ? 1e6 : 1;
  return [{ severity: 4, limit: 90 * size, clear: 80 * size }];
}

export const BLANK: Given = {
  name: "",
  measure: "load",
  statistic: "mean",
  window_s: 600,
  scope: "",
  enabled: true,
  direction: "above",
  reference: "",
  without: [],
  hours: "",
  zone: "UTC",
  raise_text: "",
  clear_text: "",
  levels: firstLevels("%"),
  hold_s: 0,
  times: 1,
  of: 1,
  instructions: "",
  plan_id: null,
};
