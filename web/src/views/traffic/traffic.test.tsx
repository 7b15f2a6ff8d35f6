import { cleanup, fireEvent, screen, waitFor, within } from "@testing-library/react";
import { useLocation } from "react-router";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { client } from "../../api/client";
import { edgesOf } from "../../charts/TrafficChart";
import { show } from "../../testing/show";
import { PortTraffic } from "../fleet/PortTraffic";
import { Traffic } from "./Traffic";
import { layersOf } from "./trafficFilter";

vi.mock("../../api/client", async (original) => ({
  ...(await original<typeof import("../../api/client")>()),
  client: { GET: vi.fn() },
  got: (answer: Promise<unknown>) => answer,
}));
vi.mock("../../components/theme", () => ({ colour: (token: string) => token, useTheme: () => "light" }));
vi.mock("../../charts/plot", () => ({ SYNC: { key: "" }, timeAxis: () => ({}), valueAxis: () => ({}) }));
vi.mock("../../charts/Plot", () => ({ Plot: ({ label }: { label: string }) => <img alt={label} /> }));
type Asked = { params: { query: Record<string, unknown> } };
const get = vi.mocked(client.GET as unknown as (path: string, options: Asked) => Promise<unknown>);
let answers: Record<string, unknown> = {};
let asked: Record<string, unknown>[] = [];

const row = (name: string, octets: number, more: Record<string, unknown> = {}) => ({
  name,
  more: "",
  filters: { application: "1" },
  octets,
  packets: 9,
  flows: 3,
  bps: octets / 10,
  percent: 50,
  before: null,
  line: [octets, 0],
  ...more,
});
const traffic = (more: Record<string, unknown> = {}) => ({
  title: "hex-wan-1 Transport A",
  filters: [],
  start: "2026-11-01T10:00:00Z",
  end: "2026-11-01T11:00:00Z",
  step_s: 1800,
  at: [1, 2],
  rows: [row("web", 8000), row("smaller ones together", 100, { filters: {}, line: [] })],
  number: 3,
  octets: 8100,
  whole: [8050, 50],
  counter: [8200, 60],
  speed_bps: 1e6,
  explained: {
    octets: 8100,
    of: 8260,
    percent: 98.06,
    since: "2026-11-01T10:00:00Z",
    until: "2026-11-01T10:57:00Z",
    why: ["packets are sampled"],
  },
  ...more,
});
const exporter = (more: Record<string, unknown> = {}) => ({
  id: 1,
  address: "192.0.2.9",
  protocol: "ipfix",
  domain: 0,
  device_id: 4,
  device: "hex-wan-1",
  first_at: "2026-11-01T10:00:00Z",
  last_at: new Date().toISOString(),
  rate: 40.4,
  records: 9,
  datagrams: 3,
  lost: 0,
  no_template: 0,
  malformed: 0,
  skew_s: 0,
  templates: 2,
  sampling: {},
  usual_sampling: null,
  explained_percent: 98.4,
  ...more,
});

beforeEach(() => {
  asked = [];
  answers = { "/api/v1/traffic": traffic(), "/api/v1/exporters": [exporter()], "/api/v1/sites": [] };
  get.mockReset().mockImplementation((path, options) => {
    if (path === "/api/v1/traffic") asked.push(options.params.query);
    return Promise.resolve(answers[path] ?? []);
  });
});
afterEach(cleanup);

const Where = () => <output>{useLocation().search}</output>;

describe("traffic", () => {
  it("says how much of the counter flows explain, and why not all", async () => {
    show(<Traffic />, "/traffic?interface=7");
    expect(await screen.findByText("98 %")).toBeTruthy();
    expect(screen.getByText(/packets are sampled/)).toBeTruthy();
    expect(screen.getByAltText("Traffic over time: web, others, and the interface counter")).toBeTruthy();
    expect(asked).toContainEqual(expect.objectContaining({ by: "application", interface: "7", way: "out" }));
  });
  it("narrows by a click, and each filter is taken away by itself", async () => {
    answers["/api/v1/traffic"] = traffic({ filters: [{ name: "sender", words: "from 10.0.0.1" }] });
    show(
      <>
        <Traffic />
        <Where />
      </>,
      "/traffic?sender=10.0.0.1",
    );
    const web = await within(screen.getByRole("region", { name: "Traffic" })).findByRole("link", { name: "web" });
    expect(web.getAttribute("href")).toBe("/traffic?sender=10.0.0.1&application=1&by=conversation");
    fireEvent.click(screen.getByRole("button", { name: /from 10.0.0.1/ }));
    await waitFor(() => expect(screen.getByRole("status").textContent).toBe(""));
  });
  it("is put together by something else, in other figures", async () => {
    show(
      <>
        <Traffic />
        <Where />
      </>,
      "/traffic",
    );
    const by = await screen.findByRole("group", { name: "Put together by" });
    fireEvent.click(within(by).getByRole("button", { name: "sender" }));
    await waitFor(() => expect(asked.at(-1)).toMatchObject({ by: "sender" }));
    fireEvent.click(within(screen.getByRole("group", { name: "Figures" })).getByRole("button", { name: "bytes" }));
    expect(await screen.findByText("8.0 kB")).toBeTruthy();
    expect(screen.getByText("and 1 smaller ones, together 0 B")).toBeTruthy();
  });
  it("says so where nobody exports, and who does that is not in the inventory", async () => {
    answers["/api/v1/traffic"] = traffic({ octets: 0, rows: [] });
    answers["/api/v1/exporters"] = [
      exporter({ device_id: null, device: "", lost: 12, no_template: 3, skew_s: -3600, sampling: { "0": 64 } }),
    ];
    show(<Traffic />, "/traffic");
    expect(await screen.findByText(/No flow records for this time/)).toBeTruthy();
    expect(await screen.findByText("192.0.2.9 is not in the inventory")).toBeTruthy();
    expect(screen.getByRole("link", { name: "add it" }).getAttribute("href")).toBe("/setup/add?address=192.0.2.9");
    const said = screen.getByText(/12 lost/).textContent;
    expect(said).toContain("flows explain 98 % of what its ports counted");
    expect(said).toContain("3 sets without a template");
    expect(said).toContain("its clock is 1 h behind");
    expect(said).toContain("samples 1 in 64");
  });
  it("is compared with another time, and had as files", async () => {
    answers["/api/v1/traffic"] = traffic({
      rows: [
        row("web", 8000, { before: 1000 }),
        row("backup", 7000, { before: 0 }),
        row("mail", 100, { before: 90 }),
        row("DNS", 10, { before: 90 }),
      ],
    });
    show(<Traffic />, "/traffic?against=86400&site=Depot");
    await waitFor(() => expect(asked).toContainEqual(expect.objectContaining({ earlier_s: 86400, site: "Depot" })));
    for (const words of ["8.0 times as much", "new", "as before", "less than half"]) {
      expect(await screen.findByText(words)).toBeTruthy();
    }
    expect(screen.getByRole("link", { name: "CSV" }).getAttribute("href")).toContain(
      "/api/v1/traffic/export?site=Depot&by=application&start=2026-11-01",
    );
  });
  it("of a port stands on its page, each way", async () => {
    show(<PortTraffic port={7} />);
    const out = await screen.findByRole("region", { name: "Who fills it, out" });
    expect(out.textContent).toContain("web");
    expect(within(out).getByRole("link", { name: "Who fills it" }).getAttribute("href")).toContain(
      "/traffic?interface=7&way=out&by=conversation",
    );
  });
});

describe("layers", () => {
  it("add up to the whole, with what is not drawn apart on top", () => {
    const layers = layersOf(traffic() as never);
    expect(layers.map(({ name, values }) => [name, values])).toEqual([
      ["web", [8000, 0]],
      ["others", [50, 50]],
    ]);
    const unknown = layers.map((layer) => ({ ...layer, values: [null, ...layer.values.slice(1)] }));
    expect(edgesOf([1, 2], unknown).map(([first]) => first)).toEqual(layers.map(() => null));
    expect(edgesOf([1, 2], layers)).toEqual([
      [8050, 50],
      [8000, 0],
    ]);
  });
});
