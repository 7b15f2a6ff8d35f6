import { expect, test } from "vitest";
import { historyOf, said } from "./alarmHistory";

const action = { at: "2026-11-23T12:05:00Z", by: "anna", kind: "shelve", text: "", until: null } as const;

test("an action says what was done, for how long, and why", () => {
  expect(said(action)).toBe("Shelved until it is cleared");
  expect(said({ ...action, kind: "acknowledge", text: "on my way" })).toBe("Acknowledged: on my way");
  expect(said({ ...action, kind: "comment", text: "the optic is old" })).toBe("the optic is old");
  expect(said({ ...action, until: "2026-11-23T13:05:00Z" })).toMatch(/^Shelved until .*\d\d:\d\d$/);
});

test("changes and actions are one history, newest first", () => {
  const changes = [
    { at: "2026-11-23T12:10:00Z", severity: 0, text: "back" },
    { at: "2026-11-23T12:00:00Z", severity: 4, text: "full" },
  ];
  expect(historyOf({ changes, actions: [action] }).map(({ text, by }) => `${text} ${by}`.trim())).toEqual([
    "back",
    "Shelved until it is cleared anna",
    "full",
  ]);
});
