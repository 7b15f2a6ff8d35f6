import { describe, expect, it } from "vitest";
import { staleBy } from "./topics";

describe("what an announcement makes stale", () => {
  it("is what it is about, and nothing else", () => {
    expect([...staleBy(["polls"])]).toEqual(["poll"]);
    expect(staleBy(["polls", "rules", "polls"])).toEqual(new Set(["poll", "rules"]));
  });

  it("is nothing for a topic that this version does not know", () => {
    expect(staleBy(["weather"]).size).toBe(0);
  });
});
