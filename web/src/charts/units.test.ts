import { expect, test } from "vitest";
import type { Schemas } from "../api/client";
import { text } from "../components/format";
import { figureIn, speedIn, valuesIn } from "./units";
import { offsetSeconds } from "./view";

const speed = (since: string, in_bps: number) => ({
  since,
  in_bps,
  out_bps: in_bps,
  in_source: "ifHighSpeed",
  out_source: "ifHighSpeed",
  port_bps: in_bps,
});

const series = {
  step_s: 60,
  at: [60, 120, 180],
  in_bps: [8e6, null, 4e6],
  out_bps: [0, 1e6, 2e6],
  in_pps: [1000, null, 500],
  out_pps: [0, 1, 2],
  speeds: [speed("1970-01-01T00:00:00Z", 8e7), speed("1970-01-01T00:02:30Z", 4e6)],
} as unknown as Schemas["SeriesOut"];

test("a share is of the speed that was in force at each step", () => {
  expect(valuesIn("share", series, "in")).toEqual([10, null, 100]);
});

test("bytes are an eighth, packets are counted, nothing stays nothing", () => {
  expect(valuesIn("bytes", series, "in")).toEqual([1e6, null, 5e5]);
  expect(valuesIn("packets", series, "in")).toEqual([1000, null, 500]);
  expect(valuesIn("bits", series, "out")).toEqual([0, 1e6, 2e6]);
});

test("without a speed there is no share", () => {
  expect(valuesIn("share", { ...series, speeds: [] }, "in")).toEqual([null, null, null]);
});

test("figures carry their unit", () => {
  expect(text(figureIn("bits", 1.5e9))).toBe("1.5 Gb/s");
  expect(text(figureIn("bytes", 2e6))).toBe("2.0 MB/s");
  expect(text(figureIn("packets", 1234))).toBe("1.2 kp/s");
  expect(text(figureIn("share", 12.4))).toBe("12 %");
});

test("a speed has no line among packets", () => {
  expect([speedIn("packets", 1e9), speedIn("bytes", 8e9), speedIn("share", 5), speedIn("bits", 0)]).toEqual([
    null,
    1e9,
    100,
    null,
  ]);
});

test("offsets are hours or days", () => {
  expect(["36h", "3d", "", "3w", "0d", "-1d"].map(offsetSeconds)).toEqual([129600, 259200, 0, 0, 0, 0]);
});
