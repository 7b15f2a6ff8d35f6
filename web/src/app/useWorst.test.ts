import { expect, test } from "vitest";
import { titleOf } from "./useWorst";

test("the tab says how many alarms are active and how bad the worst is", () => {
  expect(titleOf(2, 5)).toBe("2 alarms, critical · Lumtar");
  expect(titleOf(1, 3)).toBe("1 alarm, minor · Lumtar");
  expect(titleOf(0, 0)).toBe("Lumtar");
});
