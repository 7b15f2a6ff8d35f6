import { expect, test } from "vitest";
import { date } from "../../components/format";
import { keyOf, MEASURES, timesUsual } from "./measures";

test("octaves are told as times", () => {
  expect([2, -2, 0, 8].map((octaves) => timesUsual(octaves).figure)).toEqual(["× 4.0", "÷ 4.0", "× 1.0", "× 256"]);
});

test("every list has an address of its own", () => {
  expect(new Set(MEASURES.map(keyOf)).size).toBe(MEASURES.length);
});

test("days of another year are told with it", () => {
  const now = new Date("2026-11-24T00:00:00Z");
  expect([date("2026-12-03", now), date("2027-03-01", now)]).toEqual(["3 Dec", "1 Mar 2027"]);
});
