import { describe, expect, it } from "vitest";
import { left } from "./list";

const line = (number: number, known = "") => ({ number, address: `127.0.0.${number}`, known });
const list = (...lines: ReturnType<typeof line>[]) => ({ lines, columns: ["address"], problem: "" });

describe("what is left of a list", () => {
  const text = "address\n127.0.0.2\n# a remark\n127.0.0.4\n127.0.0.5";

  it("keeps header, remarks, and the lines that are not in", () => {
    const results = new Map([
      [2, { number: 2, went: "added" as const, words: "" }],
      [4, { number: 4, went: "wrong" as const, words: "no answer" }],
    ]);
    expect(left(text, list(line(2), line(4), line(5)), results)).toBe("address\n# a remark\n127.0.0.4\n127.0.0.5");
  });

  it("leaves out what was there before", () => {
    expect(left(text, list(line(2, "sal-wan-1"), line(4), line(5)), new Map())).toBe(
      "address\n# a remark\n127.0.0.4\n127.0.0.5",
    );
  });
});
