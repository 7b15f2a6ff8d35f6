import { cleanup, render, screen } from "@testing-library/react";
import { MemoryRouter } from "react-router";
import { afterEach, describe, expect, it } from "vitest";
import { Causes, Notified } from "./Causes";
import { Sites } from "./Sites";

afterEach(cleanup);

const site = (number: number, severity = 0, loads = [12, -1, -2, -3]) => ({
  name: `Branch ${number}`,
  severity,
  ids: loads.map((_, place) => 100 * number + place),
  loads,
});

function show(sites: ReturnType<typeof site>[]) {
  render(
    <MemoryRouter>
      <Sites sites={sites} />
    </MemoryRouter>,
  );
  return screen.getAllByRole("link").map((link) => link.textContent);
}

describe("sites on Now", () => {
  it("keep their places while they fit, whatever is wrong", () => {
    expect(show([site(1), site(2, 5), site(10)])).toEqual(["Branch 1", "Branch 2", "Branch 10"]);
    expect(screen.getByTitle("Branch 2: critical")).toBeTruthy();
    expect(screen.queryByText(/trouble first/)).toBeNull();
  });

  it("begin with those in trouble, worst first, when they do not fit", () => {
    const many = Array.from({ length: 61 }, (_, place) => site(place + 1, { 40: 4, 59: 5, 60: 4 }[place] ?? 0));
    expect(show(many).slice(0, 5)).toEqual(["Branch 60", "Branch 41", "Branch 61", "Branch 1", "Branch 2"]);
    expect(screen.getByText(/61 sites, those in trouble first/)).toBeTruthy();
    expect(many[0]?.name).toBe("Branch 1");
  });

  it("show a cell for every port and lead to the site", () => {
    show([site(3)]);
    const link = screen.getByRole("link");
    expect(link.getAttribute("href")).toContain("/fleet?");
    expect(new URLSearchParams(link.getAttribute("href")?.split("?")[1]).get("site")).toBe("Branch 3");
    expect(link.querySelectorAll("i")).toHaveLength(4);
  });
});

const row = {
  id: 7,
  label: "hex-wan-1 Transport A",
  device_id: 1,
  resource: "interface",
  interface_id: 2,
  type: "utilisation",
  severity: 4,
  text: "100 % full",
  raised_at: "2026-11-23T11:30:00Z",
  cleared_at: null,
  notified: "",
  plan: null,
  message_state: "",
} as unknown as Parameters<typeof Notified>[0]["row"];

describe("causes on Now", () => {
  it("say what, since when, and that nobody is called", () => {
    render(
      <MemoryRouter>
        <Causes causes={[{ row, spark: [] }]} active={1} at={new Date("2026-11-23T12:00:00Z")} />
      </MemoryRouter>,
    );
    expect(screen.getByText("hex-wan-1 Transport A")).toBeTruthy();
    expect(screen.getByText("30 min")).toBeTruthy();
    expect(screen.getByText("nobody is called").className).toContain("critical");
  });

  it("show seven and say how many more there are", () => {
    render(
      <MemoryRouter>
        <Causes
          causes={Array.from({ length: 9 }, (_, id) => ({ row: { ...row, id }, spark: [] }))}
          active={120}
          at={new Date("2026-11-23T12:00:00Z")}
        />
      </MemoryRouter>,
    );
    expect(screen.getAllByText("100 % full")).toHaveLength(7);
    expect(screen.getByText("113 more in Alarms")).toBeTruthy();
  });

  it("are content when there are none", () => {
    render(
      <MemoryRouter>
        <Causes causes={[]} active={0} at={new Date()} />
      </MemoryRouter>,
    );
    expect(screen.getByText(/No active alarms/)).toBeTruthy();
  });

  it.each([
    ["sent", "called Anna"],
    ["failed", "not reached: Anna"],
    ["waiting", "calling Anna"],
  ])("whose message is %s", (message_state, words) => {
    render(<Notified row={{ ...row, notified: "Anna", plan: "Night", message_state } as typeof row} />);
    expect(screen.getByText(words)).toBeTruthy();
  });
});
