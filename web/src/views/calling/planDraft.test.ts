import { describe, expect, it } from "vitest";
import { bodyOf, draftOf, furtherStep, type Plan } from "./planDraft";
import { instant, wallClock } from "./wallClock";

const step = {
  after_s: 900,
  times: 3,
  repeat_s: 600,
  from_severity: 4,
  channels: ["mail"],
  contacts: [1],
  teams: [2],
};
const stored = { name: "Night", on_worse: true, on_clear: false, steps: [step] } as unknown as Plan;

describe("a call plan while it is written", () => {
  it("is typed in minutes and sent in seconds", () => {
    const draft = draftOf(stored);
    expect(draft.steps[0]).toMatchObject({ minutes: "15", times: "3", everyMinutes: "10" });
    expect(bodyOf(draft).steps).toEqual([step]);
    expect(bodyOf(draft)).toMatchObject({ name: "Night", on_clear: false, raise_text: "" });
  });

  it("repeats nothing that is called once", () => {
    const [one] = bodyOf({ ...draftOf(stored), steps: [furtherStep([])] }).steps ?? [];
    expect(one).toMatchObject({ after_s: 0, times: 1, repeat_s: 0 });
  });

  it("goes on a quarter of an hour after its last step", () => {
    const draft = draftOf(stored);
    expect(furtherStep(draft.steps)).toMatchObject({ key: 1, minutes: "30" });
  });
});

describe("a time in a field", () => {
  it("is the clock on the wall, there and back", () => {
    const at = new Date(2026, 10, 3, 8, 5);
    expect(wallClock(at)).toBe("2026-11-03T08:05");
    expect(new Date(instant(wallClock(at))).getTime()).toBe(at.getTime());
    expect(instant("soon")).toBe("");
  });
});
