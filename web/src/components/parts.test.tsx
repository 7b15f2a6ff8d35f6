import { render, screen } from "@testing-library/react";
import { describe, expect, it } from "vitest";
import { Figure } from "./Figure";
import { rate } from "./format";
import { LoadBar } from "./LoadBar";
import { Problem } from "./Problem";
import { Severity } from "./Severity";
import { Spark } from "./Spark";
import { SEVERITIES } from "./severities";

describe("severity", () => {
  it.each(SEVERITIES.map(({ word }, level) => [level, word] as const))(
    "%i has a shape and the word %s",
    (level, word) => {
      const { container } = render(<Severity level={level} />);
      expect(screen.getAllByRole("img", { name: word }).length).toBeGreaterThan(0);
      expect(container.querySelectorAll("path, rect, circle").length).toBeGreaterThan(0);
    },
  );

  it("has a different shape for every level, so that colour is never the only sign", () => {
    const shapes = SEVERITIES.map((_, level) => {
      const { container } = render(<Severity level={level} />);
      return container.querySelector("svg")?.innerHTML.replace(/var\(--\w+\)/g, "");
    });
    expect(new Set(shapes).size).toBe(SEVERITIES.length);
  });
});

describe("spark", () => {
  it("leaves a gap out instead of joining over it", () => {
    const { container } = render(<Spark values={[10, 20, null, null, 30, 40]} />);
    const path = container.querySelector("path")?.getAttribute("d") ?? "";
    expect(path.match(/M/g)).toHaveLength(2);
    expect(path.match(/L/g)).toHaveLength(2);
  });
  it("draws nothing when nothing is known", () => {
    const { container } = render(<Spark values={[null, null]} />);
    expect(container.querySelector("path")).toBeNull();
  });
});

describe("load", () => {
  const widths = (node: HTMLElement) => [...node.querySelectorAll("i")].map((bar) => bar.style.width);
  it("shows in and out as shares, and anything at all as something", () => {
    expect(widths(render(<LoadBar inPercent={40} outPercent={0.01} />).container)).toEqual(["40%", "1%"]);
  });
  it("ends at the full width, whatever was sold", () => {
    expect(widths(render(<LoadBar inPercent={104} outPercent={null} />).container)).toEqual(["100%", "0%"]);
  });
  it("is no bar when the port is down", () => {
    expect(widths(render(<LoadBar inPercent={50} outPercent={50} down />).container)).toEqual([]);
  });
});

describe("figures and problems", () => {
  it("shows a dash for what is not known", () => {
    expect(render(<Figure of={null} />).container.textContent).toBe("–");
    expect(render(<Figure of={rate(1500)} />).container.textContent).toBe("1.5kb/s");
  });
  it("says a problem where it is, and nothing when there is none", () => {
    expect(render(<Problem error={null} />).container.innerHTML).toBe("");
    render(<Problem error={new Error("The database cannot be reached.")} />);
    expect(screen.getByRole("alert").textContent).toBe("The database cannot be reached.");
  });
});
