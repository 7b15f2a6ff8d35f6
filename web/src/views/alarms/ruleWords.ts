import type { Schemas } from "../../api/client";
import { duration } from "../../components/format";
import { SEVERITIES } from "../../components/severities";

type Rule = Schemas["RuleOut"];

/** Kinds of subjects, for people. */
export const SUBJECTS: Record<string, string> = {
  interface: "ports",
  device: "devices",
  component: "components",
  group: "groups",
  link: "links",
  bridge: "bridges",
  traffic: "watched traffic",
  flow_port: "ports that flows are told of",
  stranger: "strangers",
  path: "paths",
  controller: "controllers",
  controller_item: "what controllers tell of",
};

/** A limit with its unit; rates are shown in Mb/s, as they are typed. */
export const limit = (rule: Rule, value: number) =>
  rule.unit === "bit/s" ? `${value / 1e6} Mb/s` : `${value}${rule.unit && ` ${rule.unit}`}`;

/** What is looked at once a minute. */
const LOOKED_AT = ["link", "bridge", "traffic", "flow_port", "stranger", "path", "controller", "controller_item"];

/** What a rule about a kind of subject counts. */
export const nounOf = (subject: string) =>
  subject === "device" ? "poll" : LOOKED_AT.includes(subject) ? "look" : "reading";

/** For how long a limit must be exceeded. */
export function held(rule: Rule): string {
  const noun = nounOf(rule.subject);
  if (rule.hold_s) return ` for ${duration(rule.hold_s)}`;
  if (rule.times !== rule.of) return ` in ${rule.times} of the last ${rule.of} ${noun}s`;
  return rule.times > 1 ? ` for ${rule.times} ${noun}s in a row` : "";
}

const REFERENCES: Record<string, string> = {
  learned: " against its usual range",
  yesterday: " against yesterday at this time",
  last_week: " against last week at this time",
};

/** When a level is reached, and when it ends. */
function levelWords(rule: Rule, level: Schemas["LevelIO"]): string {
  const [at, back] = [limit(rule, level.limit), limit(rule, level.clear)];
  switch (rule.direction) {
    case "below":
      return `below ${at}, cleared above ${back}`;
    case "equal":
      return `at ${at}`;
    case "changed":
      return `changed to ${at}`;
    case "outside":
      return rule.reference
        ? `away by ${at}, cleared within ${back}`
        : `outside ${limit(rule, level.low ?? 0)} to ${at}, cleared within ${limit(rule, level.low_clear ?? 0)} to ${back}`;
    default:
      return `above ${at}, cleared below ${back}`;
  }
}

/** What a rule watches, in a sentence, and what each of its levels is. */
export function says(rule: Rule): { what: string; levels: string[] } {
  if (rule.measure === "lumtar") {
    const what =
      "What Lumtar itself does not do: a service that ended, readings that are not stored, sums behind, jobs stuck, a full disk, a clock that was set.";
    return { what, levels: [] };
  }
  if (rule.measure === "unanswered") return { what: `A device that does not answer${held(rule)}.`, levels: [] };
  const where = rule.scope ? ` of ${SUBJECTS[rule.subject]} where ${rule.scope}` : ` of all ${SUBJECTS[rule.subject]}`;
  const against = REFERENCES[rule.reference] ?? "";
  const hours = rule.hours ? `, ${rule.hours} (${rule.zone})` : "";
  return {
    what: `${rule.words}${rule.window_s ? "," : ""}${against}${where}, ${against ? "too far from it" : "beyond a limit"}${held(rule)}${hours}.`,
    levels: rule.levels.map((level) => `${SEVERITIES[level.severity]?.word} ${levelWords(rule, level)}`),
  };
}
