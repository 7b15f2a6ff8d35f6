import { describe, expect, it } from "vitest";
import { duration, moment, percent, range, rate, reading, text, volume } from "./format";

describe("figures", () => {
  it("scales rates by thousands of bits", () => {
    expect(text(rate(281_660_000))).toBe("282 Mb/s");
    expect(text(rate(14_800))).toBe("14.8 kb/s");
    expect(text(rate(0))).toBe("0 b/s");
    expect(text(rate(2_500_000_000))).toBe("2.5 Gb/s");
  });
  it("keeps bytes for volumes", () => expect(text(volume(62_300_000_000))).toBe("62.3 GB"));
  it("shows what components read by their unit", () => {
    expect(reading(2_160_000, "bit/s")).toBe("2.2 Mb/s");
    expect(reading(72_638, "s")).toBe("20 h");
    expect(reading(49.64, "°C")).toBe("49.6 °C");
    expect(reading(2400, "", 0)).toBe("2400");
  });
  it("shows what is not known as a dash, never as zero", () => {
    expect(percent(null)).toBe("–");
    expect(percent(0)).toBe("0");
    expect(percent(0.42)).toBe("0.4");
    expect(percent(93.6)).toBe("94");
  });
});

describe("times", () => {
  it("names the largest whole unit", () => {
    expect(duration(59)).toBe("59 s");
    expect(duration(720)).toBe("12 min");
    expect(duration(4 * 86400 + 5)).toBe("4 d");
  });
  it("says the day when it is not today", () => {
    const now = new Date(2026, 10, 23, 14, 0);
    expect(moment(new Date(2026, 10, 23, 9, 5), now)).toBe("09:05");
    expect(moment(new Date(2026, 10, 21, 9, 5), now)).toBe("Sat 21 09:05");
    expect(moment(new Date(2026, 9, 2, 9, 5), now)).toBe("2 Oct 09:05");
  });
  it("writes a range once when it lies in a day", () => {
    expect(range(new Date(2026, 10, 23, 9), new Date(2026, 10, 23, 12))).toBe("Mon 23 09:00 – 12:00");
    expect(range(new Date(2026, 10, 21, 20), new Date(2026, 10, 22, 8))).toBe("Sat 21 20:00 – Sun 22 08:00");
  });
});
