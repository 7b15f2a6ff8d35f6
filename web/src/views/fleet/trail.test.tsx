import { renderHook } from "@testing-library/react";
import type { ReactNode } from "react";
import { MemoryRouter, Route, Routes } from "react-router";
import { describe, expect, it } from "vitest";
import { useTrail } from "./trail";

const at = (path: string) => {
  const wrapper = ({ children }: { children: ReactNode }) => (
    <MemoryRouter initialEntries={[path]}>
      <Routes>
        <Route path="/fleet" element={children} />
        <Route path="/fleet/:kind/:number" element={children} />
      </Routes>
    </MemoryRouter>
  );
  return renderHook(useTrail, { wrapper }).result.current;
};

describe("the trail", () => {
  it("keeps list, words, order and time on the way to a thing and back", () => {
    const trail = at("/fleet?site=Depot&words=core&sort=in&span=7d");
    expect(trail.thing("port", 7)).toBe("/fleet/port/7?site=Depot&words=core&sort=in&span=7d");
    expect(at("/fleet/port/7?site=Depot&span=7d").list()).toBe("/fleet?site=Depot&span=7d");
  });

  it("changes one thing at a time and drops what is empty", () => {
    const trail = at("/fleet?site=Depot&words=core");
    expect(trail.stay({ words: "" })).toBe("?site=Depot");
    expect(trail.stay({ list: "devices" })).toBe("?site=Depot&words=core&list=devices");
    expect(trail.site("")).toBe("/fleet?words=core");
  });

  it("shows a device's ports beside a port of it, and all of them again at another site", () => {
    const trail = at("/fleet/device/3?site=Depot");
    expect(trail.portOf(3, 9)).toBe("/fleet/port/9?site=Depot&device=3");
    expect(at("/fleet/port/9?device=3").site("Saltby")).toBe("/fleet?site=Saltby");
  });

  it("knows what is open", () => {
    const trail = at("/fleet/port/9");
    expect([trail.isOpen("port", 9), trail.isOpen("device", 9), trail.isOpen("port", 8)]).toEqual([true, false, false]);
  });
});
