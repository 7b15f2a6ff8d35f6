import { describe, expect, it } from "vitest";
import { bodyOf, draftOf, type Part, repeatWords } from "./maintenanceDraft";

const parts: Part[] = [
  { kind: "sites", id: "Hexwater", words: "site Hexwater" },
  { kind: "devices", id: 7, words: "hex-wan-1" },
];

describe("a maintenance while it is written", () => {
  it("begins at the next hour and lasts two", () => {
    const draft = draftOf(undefined, parts, new Date(2026, 10, 3, 8, 17));
    expect([draft.start, draft.end]).toEqual(["2026-11-03T09:00", "2026-11-03T11:00"]);
    expect(bodyOf(draft, "Europe/London")).toMatchObject({
      zone: "Europe/London",
      sites: ["Hexwater"],
      groups: [],
      devices: [7],
      interfaces: [],
      start: new Date(2026, 10, 3, 9).toISOString(),
    });
  });

  it("says how often it comes again, or the rule as it was written", () => {
    expect(repeatWords("")).toBe("once");
    expect(repeatWords("FREQ=WEEKLY")).toBe("every week");
    expect(repeatWords("FREQ=MONTHLY;BYDAY=1SU")).toBe("FREQ=MONTHLY;BYDAY=1SU");
  });
});
