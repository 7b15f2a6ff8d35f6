import { render, screen } from "@testing-library/react";
import { describe, expect, it } from "vitest";
import { ComponentStates } from "./ComponentStates";

const part = (id: number, kind: string, name: string, words: string, is_good = true) => ({
  id,
  kind,
  name,
  unit: "state",
  value: 3,
  words,
  is_good,
});

describe("states of components", () => {
  it("tell each fan and supply, and count the ports that are well", () => {
    render(
      <ComponentStates
        components={[
          part(1, "fan", "Fan 1", "works"),
          part(2, "supply", "Power supply 2", "out of order", false),
          part(3, "poe port", "PoE port 1", "delivers power"),
          part(4, "poe port", "PoE port 2", "delivers power"),
          part(5, "poe port", "PoE port 3", "faulty", false),
          { ...part(6, "memory", "Memory", ""), unit: "%" },
        ]}
      />,
    );
    expect(screen.getByText("Fan 1")).toBeTruthy();
    expect(screen.getByText("out of order").className).toContain("text-critical");
    expect(screen.getByText(/2 ports with power over Ethernet/)).toBeTruthy();
    expect(screen.getByText("PoE port 3")).toBeTruthy();
    expect(screen.queryByText("Memory")).toBeNull();
  });

  it("say nothing where there are none", () => {
    const { container } = render(<ComponentStates components={[]} />);
    expect(container.textContent).toBe("");
  });
});
