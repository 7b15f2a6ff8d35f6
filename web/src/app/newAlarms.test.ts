import { describe, expect, it } from "vitest";
import { newOf } from "./newAlarms";

const row = (id: number, severity = 4, raised_at = "2026-11-27T10:00:00Z") => ({ id, severity, raised_at });

describe("new alarms", () => {
  it("are none at the first look", () => {
    expect(newOf([row(1), row(2)], null).fresh).toEqual([]);
  });

  it("are those that were not there, were raised again, or got worse", () => {
    const { seen } = newOf([row(1), row(2), row(3)], null);
    const again = row(2, 4, "2026-11-27T11:00:00Z");
    expect(newOf([row(1), again, row(3, 5), row(4)], seen).fresh.map(({ id }) => id)).toEqual([2, 3, 4]);
    expect(newOf([row(1, 3)], seen).fresh).toEqual([]);
  });

  it("are not those that come back into sight", () => {
    const first = newOf([row(1), row(2)], null);
    const second = newOf([row(2)], first.seen);
    expect(newOf([row(1), row(2)], second.seen).fresh).toEqual([]);
  });
});
