import { cleanup, fireEvent, screen, waitFor, within } from "@testing-library/react";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { client } from "../../api/client";
import type { PathRow } from "../../api/pathQueries";
import { show } from "../../testing/show";
import { PathForm } from "./PathForm";
import { Paths } from "./Paths";
import { badness, className, firstLimit, pairsOf, shown } from "./pathWords";

vi.mock("../../api/client", async (original) => ({
  ...(await original<typeof import("../../api/client")>()),
  client: { GET: vi.fn(), POST: vi.fn(), PUT: vi.fn(), DELETE: vi.fn() },
  got: (answer: Promise<unknown>) => answer,
}));
vi.mock("../../components/theme", () => ({ colour: (token: string) => token, useTheme: () => "light" }));
vi.mock("../../charts/RateChart", () => ({ RateChart: () => <img alt="Traffic beneath" /> }));
vi.mock("../../charts/plot", () => ({ SYNC: { key: "" }, timeAxis: () => ({}), valueAxis: () => ({}) }));
vi.mock("../../charts/Plot", () => ({ Plot: ({ label }: { label: string }) => <img alt={label} /> }));
type Call = (path: string, options: { body?: unknown; params?: unknown }) => Promise<unknown>;
const get = vi.mocked(client.GET as unknown as Call);
const post = vi.mocked(client.POST as unknown as Call);
let answers: Record<string, unknown> = {};

const row = (more: Partial<PathRow> = {}, delay: number | null = 20, lost = 0): PathRow => ({
  id: 1,
  name: "Depot – Hexwater, voice",
  prober: "prober",
  from_site: "Depot",
  to_site: "Hexwater",
  service_class: "voice",
  transport: "",
  provider: "",
  interface: null,
  port_label: "",
  device: null,
  device_name: "",
  groups: [],
  address: "127.0.9.9",
  kind: "stamp",
  port: 862,
  asked: "",
  expected: "",
  verifies: true,
  traces: false,
  dscp: 46,
  octets: 200,
  every_ms: 1000,
  enabled: true,
  since: "2026-11-01T10:00:00Z",
  problem: "",
  figures: {
    sent: 60,
    lost,
    path_delay: delay,
    path_delay_95: delay,
    path_variation: 1,
    path_jitter: 1.25,
    path_loss: (100 * lost) / 60,
    path_burst: lost,
    path_mos: 4.3,
    path_failed: (100 * lost) / 60,
    path_lookup: null,
    path_connected: null,
    path_secured: null,
    path_first_octet: null,
    path_certificate: null,
    path_missed: null,
    path_burn: null,
  },
  limits: [{ rule_id: 3, rule: "Slow", severity: 3, measure: "path_delay_95", direction: "above", limit: 150 }],
  ...more,
});

const courseOf = (path: PathRow) => ({
  path,
  start: "2026-11-28T10:00:00Z",
  end: "2026-11-28T11:00:00Z",
  step_s: 60,
  at: [1, 61],
  sent: [60, 60],
  lost: [0, 60],
  duplicates: [1, 0],
  reordered: [0, 0],
  wrong: [0, 0],
  longest_burst: [0, 60],
  ...Object.fromEntries(
    ["least", "p5", "p25", "p50", "p75", "p95", "longest", "variation", "jitter", "mos"].map((name) => [
      name,
      [20, null],
    ]),
  ),
  out: [-900, null],
  back: [940, null],
});

afterEach(cleanup);
beforeEach(() => {
  answers = {};
  get.mockImplementation(async (path) => answers[path]);
  post.mockImplementation(async () => ({}));
});

describe("words of paths", () => {
  it("call classes by their names", () => {
    expect([46, 18, 10, 34, 8, 0, 3, 1].map(className)).toEqual([
      "EF",
      "AF21",
      "AF11",
      "AF41",
      "CS1",
      "best effort",
      "DSCP 3",
      "DSCP 1",
    ]);
    expect(shown("path_loss", 0)).toBe("0 %");
    expect(shown("path_mos", 4.31)).toBe("4.3");
    expect(shown("path_delay_95", null)).toBe("–");
  });
  it("put what does not answer first, and what is not known last", () => {
    expect(badness("path_delay_95", row({}, null, 60))).toBe(Number.POSITIVE_INFINITY);
    expect(badness("path_mos", row())).toBeCloseTo(0.7);
    expect(firstLimit("path_loss", row())).toBeNull();
    const pairs = pairsOf(
      [
        row(),
        row({ id: 2, dscp: 18 }, 90),
        row({ id: 3, to_site: "Dunmere", name: "Dunmere voice" }, null, 60),
        row({ id: 4, to_site: "", name: "A server" }, 500),
      ],
      "path_delay_95",
    );
    expect(pairs.map(({ name, cells }) => [name, cells.size])).toEqual([
      ["Dunmere", 1],
      ["A server", 1],
      ["Hexwater", 2],
    ]);
  });
});

describe("paths", () => {
  it("stand side by side by class, and the worst is shown in full", async () => {
    answers["/api/v1/paths"] = [row(), row({ id: 3, to_site: "Dunmere", name: "Depot – Dunmere, voice" }, null, 60)];
    answers["/api/v1/paths/{path}"] = courseOf(row({ id: 3, name: "Depot – Dunmere, voice" }, null, 60));
    show(<Paths />, "/paths");
    expect(await screen.findByRole("link", { name: "Depot – Dunmere, voice: no answer" })).toBeTruthy();
    expect((await screen.findByRole("heading", { name: "Depot – Dunmere, voice" })).tagName).toBe("H1");
    expect(screen.getByText(/60 of 60 probes, at most 60 in a row, 1 came twice/)).toBeTruthy();
    expect(screen.getByText(/do not agree/)).toBeTruthy();
    expect(screen.getByRole("link", { name: "Slow" }).getAttribute("href")).toBe("/alarms/rules/3");
  });
  it("are found by words, and of many the worst are shown", async () => {
    const many = Array.from({ length: 400 }, (_, n) => row({ id: n + 1, to_site: "", name: `Line ${n}` }, n));
    answers["/api/v1/paths"] = [
      ...many,
      row({ id: 900, to_site: "", name: "Quiet", provider: "Cairnholm Lines" }, 0.5),
    ];
    answers["/api/v1/paths/{path}"] = courseOf(row());
    show(<Paths />, "/paths");
    const list = within(await screen.findByRole("region", { name: "Paths" }));
    expect(await list.findByText("The worst 300; search to see others.")).toBeTruthy();
    expect(list.getByText("Line 399")).toBeTruthy();
    expect(list.queryByText("Quiet")).toBeNull();
    fireEvent.change(list.getByLabelText("Search paths"), { target: { value: "cairn lines" } });
    expect(await list.findByText("Quiet")).toBeTruthy();
    expect(list.queryByText("Line 399")).toBeNull();
    fireEvent.change(list.getByLabelText("Search paths"), { target: { value: "nobody" } });
    expect(await list.findByText("No matching paths. Clear the search to see all.")).toBeTruthy();
  });

  it("say what a path needs where there is none", async () => {
    answers["/api/v1/paths"] = [];
    show(<Paths />, "/paths");
    expect(await screen.findByText(/a reflector of STAMP/)).toBeTruthy();
  });
  it("are set up", async () => {
    answers["/api/v1/sites"] = [{ name: "Depot" }, { name: "Hexwater" }];
    const done = vi.fn();
    show(<PathForm path={null} onDone={done} />);
    fireEvent.change(screen.getByLabelText("Name"), { target: { value: "To Hexwater" } });
    fireEvent.change(screen.getByLabelText(/Reflector/), { target: { value: "192.0.2.7" } });
    fireEvent.change(screen.getByLabelText(/DSCP/), { target: { value: "46" } });
    fireEvent.submit(screen.getByLabelText("Name").closest("form") as HTMLFormElement);
    await waitFor(() => expect(done).toHaveBeenCalled());
    expect(post.mock.calls[0]?.[1].body).toMatchObject({
      name: "To Hexwater",
      address: "192.0.2.7",
      dscp: 46,
      port: 862,
    });
  });
});

describe("moves", () => {
  const move = (id: number, more = {}) => ({
    id,
    site: `Site ${id}`,
    service_class: "voice",
    at: "2026-11-29T01:51:00Z",
    from_transport: `Site ${id} A`,
    to_transport: `Site ${id} B`,
    why: "the policy takes it first",
    ...more,
  });

  it("of one change stand together, and each is compared by itself", async () => {
    const alone = move(3, { service_class: "", why: "the port of Site 3 A is down" });
    answers = {
      "/api/v1/overlay": [],
      "/api/v1/overlay/moves": [move(1), move(2), alone],
      "/api/v1/overlay/moves/{move}": [{ service_class: "voice", path_id: 9, before: [20, 1, 0], after: [120, 1, 5] }],
    };
    show(<Paths />, "/paths?list=transports&move=1");
    const several = (await screen.findByText("2 sites, voice")).closest("li") as HTMLElement;
    expect(several.textContent?.split("the policy takes it first")).toHaveLength(2);
    expect((await screen.findByText("Site 3")).closest("li")?.textContent).toContain("the port of Site 3 A is down");
    const all = within(several).getByRole("group") as HTMLDetailsElement;
    expect(await screen.findByText("120 ms, 5.0 %")).toBeTruthy();
    fireEvent.click(within(several).getByText("Site 1"));
    await waitFor(() => expect(screen.queryByText("120 ms, 5.0 %")).toBeNull());
    expect(all.open, "the others stay").toBe(true);
    fireEvent.click(within(several).getByText("Site 2"));
    expect(await screen.findByText("120 ms, 5.0 %")).toBeTruthy();
  });
});
