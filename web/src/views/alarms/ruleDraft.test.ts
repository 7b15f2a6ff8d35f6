import { expect, test } from "vitest";
import { marksByDay } from "./calendarMarks";
import { BLANK, bodyOf, draftOf, furtherLevel, unitOf, type Vocabulary } from "./ruleDraft";

const words: Vocabulary = {
  measures: [
    { name: "load", words: "Utilisation", unit: "%", subject: "interface" },
    { name: "in", words: "Inbound rate", unit: "bit/s", subject: "interface" },
    { name: "processor", words: "Processor load", unit: "%", subject: "component" },
  ],
  statistics: [
    { name: "value", words: "each value", unit: "{unit}", has_window: false },
    { name: "mean", words: "mean", unit: "{unit}", has_window: true },
    { name: "rate", words: "rate of change", unit: "{unit}/h", has_window: true },
    { name: "missing", words: "share of missing values", unit: "%", has_window: true },
  ],
  references: [],
  fields: {},
  text_variables: {},
  ready: [],
};

test("a rule comes back from the form as it went in", () => {
  const given = {
    ...BLANK,
    name: "Load",
    scope: "role is wan",
    plan_id: 3,
    instructions: "Look.",
  };
  expect(bodyOf(words, draftOf(words, given))).toEqual(given);
});

test("rates are typed in Mb/s", () => {
  const draft = draftOf(words, { ...BLANK, measure: "in", levels: [{ severity: 4, limit: 3e8, clear: 2e8 }] });
  expect(draft.levels[0]?.limit).toBe("300");
  expect(bodyOf(words, draft).levels?.[0]).toEqual({ severity: 4, limit: 3e8, clear: 2e8 });
  expect(unitOf(words, { measure: "in", statistic: "rate", reference: "" })).toBe("Mb/s/h");
  expect(unitOf(words, { measure: "in", statistic: "missing", reference: "" })).toBe("%");
});

test("what does not apply is left out", () => {
  const draft = draftOf(words, { ...BLANK, scope: "role is wan" });
  const body = bodyOf(words, { ...draft, measure: "processor", statistic: "value", held: "for", holdMinutes: "15" });
  expect([body.window_s, body.hold_s, body.times, body.of]).toEqual([0, 900, 1, 1]);
});

test("a further level is the next severity that is free", () => {
  const levels = draftOf(words, BLANK).levels;
  expect(furtherLevel(levels)).toMatchObject({ key: 1, severity: 5, limit: "90" });
  expect(furtherLevel([...levels, furtherLevel(levels)]).severity).toBe(3);
});

test("an alarm that lasts over midnight is two marks", () => {
  const at = (day: number, hour: number) => new Date(2026, 10, day, hour).getTime() / 1000;
  const alarm = { subject_id: 1, label: "p", severity: 4, value: 1, raised_at: at(3, 22), cleared_at: at(4, 3) };
  const lasting = { ...alarm, severity: 3, raised_at: at(5, 6), cleared_at: null };
  const { days, marks } = marksByDay({ start: at(3, 12), end: at(5, 18), listed: [alarm, lasting] });
  expect(days).toHaveLength(3);
  expect(marks.map(({ day, from, to }) => [day, from, to])).toEqual([
    [2, 6, 18],
    [0, 22, 24],
    [1, 0, 3],
  ]);
});
