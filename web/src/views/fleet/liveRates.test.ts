import { describe, expect, it } from "vitest";
import { joinedLooks } from "../../api/queries";
import { liveRates, topOf } from "./liveRates";

const none = { at: [], in_bps: [], out_bps: [] };

describe("looks at a port", () => {
  it("follow the polls before them, and leave a gap open", () => {
    const polls = { at: [900, 960, 1020], in_bps: [1, 2, 3], out_bps: [4, 5, 6] };
    const looks = liveRates(
      { at: [1000, 1002, 1010], seconds: [2, 2, 2], in_bps: [10, 20, 30], out_bps: [0, 0, 0] },
      polls,
    );
    expect(looks.at.map(Math.floor)).toEqual([900, 960, 998, 1000, 1002, 1002, 1008, 1010]);
    expect(looks.in_bps).toEqual([1, 2, 10, 10, 20, null, 30, 30]);
  });

  it("give way to the polls where nobody looked", () => {
    const polls = { at: [1000, 1060, 1120, 1180], in_bps: [1, 2, 3, 4], out_bps: [0, 0, 0, 0] };
    const looks = liveRates({ at: [1002, 1150], seconds: [4, 2], in_bps: [10, 30], out_bps: [0, 0] }, polls);
    expect(looks.at).toEqual([998, 1002, 1060, 1120, 1148, 1150]);
    expect(looks.in_bps).toEqual([10, 10, 2, 3, 30, 30]);
    expect(liveRates({ at: [], seconds: [], in_bps: [], out_bps: [] }, polls).at).toEqual(polls.at);
  });

  it("leave room above the highest of what is in sight", () => {
    const old = { at: [10, 700], in_bps: [9e9, 5e6], out_bps: [null, 1] };
    expect(topOf([old, none], 100)).toBeCloseTo(5.4e6);
    expect(topOf([none, none], 0)).toBeGreaterThan(0);
  });

  it("are kept for ten minutes", () => {
    const port = { id: 1, label: "", device: "", device_id: 1, in_speed_bps: 0, out_speed_bps: 0 };
    const answer = (seconds: number) => ({
      at: new Date(seconds * 1000).toISOString(),
      until: "",
      devices: [],
      ports: [{ ...port, at: [seconds], seconds: [2], in_bps: [seconds], out_bps: [0] }],
    });
    const two = joinedLooks(answer(1000), answer(1002));
    expect(two.ports[0]?.at).toEqual([1000, 1002]);
    expect(joinedLooks(two, answer(1601)).ports[0]?.in_bps).toEqual([1002, 1601]);
    expect(joinedLooks(two, answer(9999)).ports[0]?.at).toEqual([9999]);
  });
});
