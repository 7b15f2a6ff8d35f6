import { expect, test } from "vitest";
import { layout } from "./cellLayout";

const box = (...names: string[]) => ({ ids: names.map((_, place) => place + 1), names });
const places = (names: string[], columns = 50) =>
  layout(box(...names), "box", columns).map(({ column, row }) => `${column}/${row}`);

test("odd ports stand above even ones", () => {
  expect(places(["g1", "g2", "g3", "g4"])).toEqual(["0/0", "0/1", "1/0", "1/1"]);
});

test("each family of names has room of its own, in the order of the device", () => {
  expect(places(["g1", "g2", "g3", "x1", "x2", "mgmt"])).toEqual(["0/0", "0/1", "1/0", "3/0", "3/1", "5/0"]);
});

test("no two ports share a place, whatever they are called", () => {
  const names = Array.from({ length: 48 }, (_, number) => `g0/${number + 1}`).concat(["", "vlan", "t1", "t12"]);
  const found = places(names);
  expect(new Set(found).size).toBe(names.length);
});

test("what is too long for the screen goes on below", () => {
  const names = Array.from({ length: 40 }, (_, number) => `g${number + 1}`);
  const found = layout(box(...names), "box", 8);
  expect(Math.max(...found.map((cell) => cell.column))).toBe(7);
  expect(new Set(found.map((cell) => `${cell.column}/${cell.row}`)).size).toBe(40);
});

test("by index they stand one behind the other", () => {
  expect(layout(box("a", "b", "c"), "index", 2)).toEqual([
    { place: 0, column: 0, row: 0 },
    { place: 1, column: 1, row: 0 },
    { place: 2, column: 0, row: 1 },
  ]);
});
