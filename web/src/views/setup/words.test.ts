import { describe, expect, it } from "vitest";
import type { Schemas } from "../../api/client";
import { costWords } from "../fleet/DeviceTools";
import { endWords, progressWords } from "./Sweeps";
import { everyWords, pieces, tagsOf, tagText } from "./words";

const run: Schemas["RunOut"] = {
  id: 1,
  state: "running",
  asked_by: "anna",
  asked_at: "2026-11-23T10:00:00Z",
  began_at: "2026-11-23T10:00:00Z",
  ended_at: null,
  total: 1022,
  done: 511,
  answered: 12,
  packets: 1000,
  left_s: 89.2,
  counts: {},
  words: "",
};

describe("text of forms", () => {
  it("becomes values and comes back", () => {
    expect(tagsOf("owner=it; path=a=b;;  floor = 2 ")).toEqual({ owner: "it", path: "a=b", floor: "2" });
    expect(tagText({ owner: "it", floor: "2" })).toBe("owner=it; floor=2");
    expect(tagsOf(tagText({ a: "1", b: "" }))).toEqual({ a: "1", b: "" });
    expect(pieces(" WAN;; New branches ; ")).toEqual(["WAN", "New branches"]);
    expect(tagsOf("")).toEqual({});
  });

  it("says how often in words", () => {
    expect([0, 3600, 86_400, 900].map(everyWords)).toEqual(["only by hand", "every hour", "every day", "every 15 min"]);
  });
});

describe("a sweep's run", () => {
  it("says how far it is and how long it will take", () => {
    expect(progressWords(run)).toBe("511 of 1,022 addresses asked, 12 answered, about 1 min left");
    expect(progressWords({ ...run, done: 0, left_s: null })).toBe("0 of 1,022 addresses asked, 12 answered");
    expect(progressWords({ ...run, state: "waiting" })).toBe("It starts as soon as the worker is free.");
  });

  it("says what came of it, in the same order each time and without what is nought", () => {
    const ended = { ...run, state: "done", done: 1022, ended_at: "2026-11-23T10:00:05Z" };
    const counts = { hold: 1, add: 2, known: 0, new: 3, lost: 1, retired: 0 };
    expect(endWords({ ...ended, counts })).toBe("1,022 addresses in 5 s: 3 new, 1 lost, 2 added, 1 awaiting review");
    expect(endWords({ ...ended, done: 1, words: "it failed: no" })).toBe("it failed: no: 1 address in 5 s");
  });
});

describe("the cost of an interval", () => {
  const load = { requests_per_s: 15, ms_per_request: 4 };
  it("is said in requests and as a share of the collector", () => {
    expect(costWords(load, 12, 60)).toBe("0.20 requests/s, 0.080 % of the collector (all: 6.0 %)");
    expect(costWords({ ...load, ms_per_request: null }, 120, 10)).toBe("12.0 requests/s");
  });
  it("is not said before it is known", () => {
    expect([costWords(load, 0, 60), costWords(load, 12, 0), costWords(undefined, 12, 60)]).toEqual([
      "",
      "",
      "0.20 requests/s",
    ]);
  });
});
