import { cleanup, fireEvent, screen } from "@testing-library/react";
import { Route, Routes, useLocation } from "react-router";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { nowQuery, worstQuery } from "../../api/queries";
import { alarmRow } from "../../testing/alarms";
import { show } from "../../testing/show";
import { Tile } from "./Tile";
import { Wall } from "./Wall";

const answers: Record<string, unknown> = {};
vi.mock("../../api/live", () => ({ useLive: () => undefined }));
vi.mock("../../api/client", async (original) => ({
  ...(await original<typeof import("../../api/client")>()),
  client: {
    GET: (path: string) => (path in answers ? Promise.resolve(answers[path]) : Promise.reject(new Error("away"))),
  },
  got: (answer: Promise<unknown>) => answer,
}));

const NOW = new Date("2026-11-27T10:12:00Z");
const told = (...rows: ReturnType<typeof alarmRow>[]) => {
  answers["/api/v1/alarms"] = { rows, total: rows.length, next: null };
  answers["/api/v1/now"] = {
    headline: { strong: `${rows.length} alarms`, rest: ", everything else is quiet." },
    causes: rows.map((row) => ({ row, consequences: [] })),
    sites: [{ name: "Hexwater", severity: 4, ids: [1], loads: [94] }],
  };
};

beforeEach(() => {
  vi.useFakeTimers({ shouldAdvanceTime: true });
  vi.setSystemTime(NOW);
});
afterEach(() => {
  for (const path of Object.keys(answers)) delete answers[path];
  cleanup();
  vi.useRealTimers();
  document.title = "";
});

const Where = () => <p>{useLocation().pathname}</p>;

describe("Now on a wall", () => {
  it("says how many of each severity there are, and the first of them", async () => {
    told(
      alarmRow(1, { severity: 5, acknowledged_by: "anna" }),
      ...[2, 3, 4, 5, 6, 7, 8, 9, 10, 11].map((id) => alarmRow(id, { severity: 3 })),
    );
    show(<Wall />);
    expect((await screen.findByRole("heading", { level: 1 })).textContent).toBe("11 alarms, everything else is quiet.");
    const active = screen.getByLabelText("Active alarms");
    expect(active.querySelector("p")?.textContent).toBe("1 critical0 major10 minor0 warning");
    expect(active.querySelectorAll("p")).toHaveLength(1 + 9);
    expect(active.textContent).toContain("· anna");
    expect(active.textContent).toContain("12 min");
    expect(document.title).toBe("11 alarms, critical · Lumtar");
  });

  it("says that there are none, and Escape goes back", async () => {
    told();
    show(
      <Routes>
        <Route path="/wall" element={<Wall />} />
        <Route path="/" element={<Where />} />
      </Routes>,
      "/wall",
    );
    await screen.findByText("No active alarms.");
    fireEvent.keyDown(document.body, { key: "Escape" });
    await screen.findByText("/");
  });

  it("says why it shows nothing", async () => {
    show(<Wall />);
    expect(await screen.findByRole("alert")).toBeTruthy();
  });
});

describe("Now in a corner of a screen", () => {
  it("says how many there are and what the worst is", async () => {
    told(alarmRow(1, { severity: 5, label: "hex-wan-1 Transport A" }), alarmRow(2));
    show(<Tile />);
    await screen.findByText("hex-wan-1 Transport A");
    expect(screen.getByText("2")).toBeTruthy();
    expect(screen.getByText("critical", { selector: "span" })).toBeTruthy();
    expect(screen.getByText(/^12 min.*94 % full/)).toBeTruthy();
  });

  it("says that nothing is wrong", async () => {
    told();
    show(<Tile />);
    await screen.findByText("no active alarms");
    expect(screen.getByText("0")).toBeTruthy();
  });

  it("says that Lumtar does not answer, which is not that nothing is wrong", async () => {
    const queries = show(<Tile />);
    await screen.findByText("Lumtar does not answer");
    expect(screen.getByText("–")).toBeTruthy();
    expect(queries.getQueryState(worstQuery.queryKey)?.status).toBe("error");
    expect(queries.getQueryData(nowQuery(null).queryKey)).toBeUndefined();
  });
});
