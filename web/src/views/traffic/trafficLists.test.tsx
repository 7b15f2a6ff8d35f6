import { cleanup, fireEvent, screen, waitFor, within } from "@testing-library/react";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { client } from "../../api/client";
import { show } from "../../testing/show";
import { ApplicationForm } from "../setup/ApplicationForm";
import { Captures } from "./Captures";
import { captureFilter, captureOf } from "./captureFilter";
import { projected } from "./PlacesPicture";
import { Records } from "./Records";
import { ResponseTimes } from "./ResponseTimes";
import { SiteMatrix, shadeOf } from "./SiteMatrix";
import { Strangers } from "./Strangers";
import { Watched } from "./Watched";

vi.mock("../../api/client", async (original) => ({
  ...(await original<typeof import("../../api/client")>()),
  client: { GET: vi.fn(), POST: vi.fn(), PUT: vi.fn(), DELETE: vi.fn() },
  got: (answer: Promise<unknown>) => answer,
}));
vi.mock("../../components/theme", () => ({ colour: (token: string) => token, useTheme: () => "light" }));
vi.mock("../../charts/plot", () => ({ SYNC: { key: "" }, timeAxis: () => ({}), valueAxis: () => ({}) }));
vi.mock("../../charts/Plot", () => ({ Plot: ({ label }: { label: string }) => <img alt={label} /> }));
type Call = (path: string, options: { body?: unknown; params?: unknown }) => Promise<unknown>;
const get = vi.mocked(client.GET as unknown as Call);
const post = vi.mocked(client.POST as unknown as Call);
let answers: Record<string, unknown> = {};
const sent: { path: string; body: unknown; params: unknown }[] = [];

const AT = "2026-11-28T10:00:00Z";
const end = (address: string, port: number) => ({ address, name: "", port, site: "Hexwater", autonomous_system: 0 });
const record = {
  at: AT,
  start: "2026-11-28T09:59:40Z",
  end: AT,
  source: end("10.9.10.33", 50123),
  destination: end("10.1.10.201", 873),
  application: "backup",
  application_id: 0,
  service: "tcp 873",
  protocol: "TCP",
  octets: 347_000_000,
  packets: 434_000,
  dscp: 0,
  ecn: 0,
  tcp_flags: "SYN ACK",
  sampling: 1,
  direction: "ingress",
  exporter_id: 4,
  exporter: "hex-wan-1",
  came_in: "To hex-acc-1",
  went_out: "Transport A",
  input: 3,
  output: 1,
};
const stranger = {
  id: 1,
  address: "172.31.9.66",
  name: "",
  list_id: 5,
  list: "County",
  first_at: AT,
  last_at: AT,
  interface_id: 7,
  where: "rus-wan-1 Transport A",
  peer: "203.0.113.77",
  service: "tcp 4444",
  octets: 4_100_000,
  accepted_at: null,
  accepted_by: "",
};
const list = { id: 5, name: "County", is_deny: false, within: "10.*", listed: "", enabled: true, strangers: 1 };
const capture = {
  id: 2,
  collector: "collector",
  interface: "lo",
  filter: "",
  longest: 256,
  seconds: 30,
  most_octets: 8_000_000,
  why: "",
  by: "anna",
  asked_at: AT,
  begun_at: AT,
  ended_at: AT,
  state: "done",
  words: "30 s are over.",
  packets: 3,
  dropped: 0,
  octets: 400,
};

beforeEach(() => {
  sent.length = 0;
  answers = {
    "/api/v1/session": { role: "engineer", limited: false },
    "/api/v1/traffic/recordings": [],
    "/api/v1/traffic/live": { until: AT, rows: [record], number: 700, words: "" },
    "/api/v1/traffic/records": { until: AT, rows: [], number: 0, words: "" },
    "/api/v1/traffic/strangers": { rows: [stranger], number: 1 },
    "/api/v1/traffic/addresses": [list],
    "/api/v1/captures": { rows: [capture], places: [{ collector: "collector", interfaces: ["eth0", "lo"] }] },
    "/api/v1/traffic/watched": [],
  };
  get.mockReset().mockImplementation((path) => Promise.resolve(answers[path] ?? []));
  post.mockReset().mockImplementation((path, { body, params }) => {
    sent.push({ path, body, params });
    return Promise.resolve(answers[path] ?? {});
  });
});
afterEach(cleanup);

describe("records", () => {
  it("come as they are told of, each with every field, and can be paused", async () => {
    show(<Records />, "/traffic?list=records&device=4");
    const row = await screen.findByRole("button", { name: /10.9.10.33/ });
    expect(row.textContent).toContain("347 MB");
    expect(screen.getByText("and 699 earlier ones")).toBeTruthy();
    fireEvent.click(row);
    expect(screen.getByText("SYN ACK")).toBeTruthy();
    expect(screen.getByText("Transport A (ifIndex 1)")).toBeTruthy();
    // One that is looked at stays where it is.
    expect(screen.getByText(/Paused/)).toBeTruthy();
    fireEvent.click(screen.getByRole("button", { name: "Go on" }));
    expect(screen.getByText(/Records as they come/)).toBeTruthy();
  });
  it("are kept for a chosen time", async () => {
    show(<Records />, "/traffic?list=records&device=4");
    fireEvent.change(await screen.findByLabelText(/Keep the records of this device for/), { target: { value: "24" } });
    fireEvent.click(screen.getByRole("button", { name: "Keep them" }));
    await waitFor(() =>
      expect(sent).toContainEqual(
        expect.objectContaining({ path: "/api/v1/traffic/recordings", body: { device: 4, hours: 24 } }),
      ),
    );
  });
  it("of a past time say so where none were kept", async () => {
    show(<Records />, "/traffic?list=records&from=2026-11-27T10:00:00Z&to=2026-11-27T11:00:00Z");
    expect(await screen.findByText(/No records of this time were kept/)).toBeTruthy();
  });
});

describe("strangers", () => {
  it("are accepted singly, by a prefix, or all at once", async () => {
    show(<Strangers />, "/traffic?list=strangers");
    fireEvent.click(await screen.findByRole("button", { name: "accept" }));
    const accepted = (body: object) => ({
      path: "/api/v1/traffic/addresses/{list_id}/accepted",
      body: { addresses: [], prefix: "", everybody: false, ...body },
      params: { path: { list_id: 5 } },
    });
    await waitFor(() => expect(sent).toContainEqual(accepted({ addresses: ["172.31.9.66"] })));
    fireEvent.change(screen.getByLabelText("Prefix to accept in County"), { target: { value: "172.31.9.0/24" } });
    fireEvent.click(screen.getByRole("button", { name: "Accept the prefix" }));
    await waitFor(() => expect(sent).toContainEqual(accepted({ prefix: "172.31.9.0/24" })));
    fireEvent.click(screen.getByRole("button", { name: /Accept the one/ }));
    await waitFor(() => expect(sent).toContainEqual(accepted({ everybody: true })));
    expect(screen.getByRole("link", { name: "capture" }).getAttribute("href")).toContain("address=172.31.9.66");
  });
  it("need a list first, which is made here", async () => {
    answers["/api/v1/traffic/strangers"] = { rows: [], number: 0 };
    answers["/api/v1/traffic/addresses"] = [];
    show(<Strangers />, "/traffic?list=strangers");
    expect(await screen.findByText(/There is no list of known addresses yet/)).toBeTruthy();
    fireEvent.click(screen.getByRole("button", { name: "New list" }));
    fireEvent.change(screen.getByLabelText(/^Name/), { target: { value: "County" } });
    fireEvent.change(screen.getByLabelText(/^Looked at/), { target: { value: "10.0.0.0/8" } });
    fireEvent.change(screen.getByLabelText(/^Known one/), { target: { value: "10.1.*" } });
    fireEvent.click(screen.getByRole("button", { name: "Save" }));
    await waitFor(() =>
      expect(sent[0]?.body).toEqual({
        name: "County",
        is_deny: false,
        within: "10.0.0.0/8",
        listed: "10.1.*",
        enabled: true,
      }),
    );
  });
});

describe("captures", () => {
  it("begin with what is shown as a filter, and are had as files", async () => {
    show(<Captures />, "/traffic?list=captures&sender=10.9.10.33&port=873&protocol=6");
    const filter = await screen.findByLabelText(/^Filter/);
    expect((filter as HTMLInputElement).value).toBe("host 10.9.10.33 and tcp port 873");
    expect(screen.getByRole("link", { name: "pcapng" }).getAttribute("href")).toBe("/api/v1/captures/2/file");
    fireEvent.change(screen.getByLabelText(/^Where/), { target: { value: "collector lo" } });
    fireEvent.click(screen.getByRole("button", { name: "Capture" }));
    await waitFor(() =>
      expect(sent[0]?.body).toMatchObject({ collector: "collector", interface: "lo", seconds: 30, longest: 256 }),
    );
  });
  it("are for engineers", async () => {
    answers["/api/v1/session"] = { role: "operator", limited: false };
    show(<Captures />, "/traffic?list=captures");
    expect(await screen.findByText(/only engineers make them/)).toBeTruthy();
  });
  it("have filters that libpcap takes", () => {
    expect(captureFilter({})).toBe("");
    expect(captureFilter({ address: "2001:db8::1", protocol: "58", port: "0" })).toBe("host 2001:db8::1 and icmp6");
    expect(captureFilter({ protocol: "47" })).toBe("proto 47");
    expect(captureFilter({ port: "53" })).toBe("port 53");
  });
});

describe("watched traffic", () => {
  it("shows its rate beside the levels of rules, and leads to a new rule", async () => {
    answers["/api/v1/traffic/watched"] = [
      {
        id: 3,
        name: "Backups",
        filters: { application: "14" },
        words: [],
        title: "the whole network",
        since: AT,
        rate_bps: 45e6,
        limits: [{ rule_id: 8, rule: "Busy", severity: 4, measure: "traffic_rate", direction: "above", limit: 90e6 }],
        network_ms: 12.4,
        server_ms: 1320,
      },
    ];
    show(<Watched filter={{}} />, "/traffic");
    expect((await screen.findByRole("link", { name: "Backups" })).getAttribute("href")).toBe("/traffic?application=14");
    expect(screen.getByRole("link", { name: /90.0 Mb\/s \(50 %\)/ }).getAttribute("href")).toBe("/alarms/rules/8");
    expect(screen.getByRole("link", { name: "server 1.3 s" }).getAttribute("href")).toContain("list=times");
    expect(screen.getByRole("link", { name: "new rule" }).getAttribute("href")).toContain("measure=traffic_rate");
    fireEvent.change(screen.getByLabelText("Name for the traffic that is shown"), { target: { value: "All" } });
    fireEvent.click(screen.getByRole("button", { name: "Watch it" }));
    await waitFor(() => expect(sent[0]?.body).toEqual({ name: "All", filters: {} }));
  });
});

describe("response times", () => {
  const mean = (ms: number | null, longest_ms: number | null = ms, number = 4) => ({ ms, longest_ms, number });
  const told = (rows: unknown[]) => ({
    title: "the whole network",
    filters: [],
    start: AT,
    end: "2026-11-28T10:02:00Z",
    step_s: 60,
    at: [1, 2],
    network: [6, null],
    server: [40, null],
    whole: { name: "", more: "", filters: {}, network: mean(6), server: mean(1320, 6000) },
    rows,
    number: rows.length,
  });
  it("tells the network from the server, and narrows step by step", async () => {
    answers["/api/v1/traffic/response-times"] = told([
      { name: "web", more: "", filters: { application: "1" }, network: mean(6), server: mean(1320, 6000) },
      { name: "mail", more: "", filters: { application: "3" }, network: mean(14), server: mean(null) },
    ]);
    show(<ResponseTimes />, "/traffic?list=times");
    expect((await screen.findByText("the slowest first")).parentElement?.textContent).toContain("2 applications");
    expect(screen.getAllByText("1.3 s").length).toBe(2);
    const rows = screen.getAllByRole("listitem").map((each) => each.textContent);
    expect(rows[0]).toContain("6.0 ms1.3 s6.0 s4");
    expect(rows[1]).toContain("14 ms–");
    expect(screen.getByRole("link", { name: "web" }).getAttribute("href")).toBe(
      "/traffic?list=times&application=1&by=server",
    );
    expect(screen.getByRole("link", { name: "CSV" }).getAttribute("href")).toContain(
      "response-times/export?by=application",
    );
  });
  it("says where to declare fields if nobody tells of any", async () => {
    answers["/api/v1/traffic/response-times"] = told([]);
    show(<ResponseTimes />, "/traffic?list=times");
    expect((await screen.findByRole("link", { name: "set-up of traffic" })).getAttribute("href")).toBe(
      "/setup/traffic",
    );
  });
});

describe("an application", () => {
  it("is tried before it is kept", async () => {
    answers["/api/v1/applications/try"] = {
      octets: 6000,
      conversations: 2,
      of_octets: 12_000,
      of_conversations: 9,
      now: [{ name: "web", octets: 6000 }],
    };
    show(<ApplicationForm application={null} onDone={() => {}} />);
    fireEvent.change(screen.getByLabelText(/^Ports/), { target: { value: "8080" } });
    fireEvent.change(screen.getByLabelText(/^IP protocols/), { target: { value: "6, 17" } });
    fireEvent.click(screen.getByRole("button", { name: "Try it on the last hour" }));
    expect(await screen.findByText(/2 conversations with 6.0 kB \(50 %\); called until now: web 6.0 kB/)).toBeTruthy();
    expect(sent[0]?.body).toMatchObject({ ports: "8080", protocols: [6, 17] });
  });
});

describe("pictures", () => {
  it("of sites have a row for each sender and a column for each receiver", () => {
    const pair = (name: string, bps: number) => ({
      name,
      more: "",
      filters: { src_site: "1" },
      octets: bps,
      packets: 1,
      flows: 1,
      bps,
      percent: 1,
      before: null,
      line: [],
      where: null,
    });
    show(<SiteMatrix rows={[pair("Hexwater → Depot", 8e6), pair("Depot → elsewhere", 1e6)]} />, "/traffic?by=site");
    const table = screen.getByRole("table");
    expect(
      within(table)
        .getAllByRole("columnheader")
        .map((each) => each.textContent),
    ).toEqual(["from, to", "Depot", "Hexwater", "elsewhere"]);
    expect(screen.getByRole("link", { name: "Hexwater to Depot: 8.0 Mb/s" })).toBeTruthy();
    expect([8e6, 1e6, 10].map((bps) => shadeOf({ bps }, 8e6))).toEqual([
      "var(--load4)",
      "var(--load3)",
      "var(--load0)",
    ]);
    expect(shadeOf(undefined, 1)).toBe("transparent");
  });
  it("of places have north up, and all of them within", () => {
    const spot = projected([
      [57, -2],
      [46, 17],
    ]);
    const [north, south] = [spot([57, -2]), spot([46, 17])];
    expect(north[1]).toBeLessThan(south[1]);
    expect(north[0]).toBeLessThan(south[0]);
    for (const [x, y] of [north, south]) {
      expect(x).toBeGreaterThan(40);
      expect(y).toBeLessThan(300);
    }
  });
});

describe("a capture about an alarm", () => {
  const asked = (label: string, text: string) => new URLSearchParams(captureOf({ label, text }).split("?")[1]);
  it("begins with the address that the alarm names", () => {
    const stranger = asked(
      "172.31.18.66 (County addresses)",
      "172.31.18.66 is not known: seen with 203.0.113.77, tcp 4444",
    );
    expect(Object.fromEntries(stranger)).toEqual({
      list: "captures",
      address: "172.31.18.66",
      why: "alarm 172.31.18.66 (County addresses)",
    });
    expect(asked("mar-wan-1 Transport A", "10.8.40.66 reached 508 receivers within a minute").get("address")).toBe(
      "10.8.40.66",
    );
    expect(asked("A port", "2001:db8:f00d::9 asks for 12 ports").get("address")).toBe("2001:db8:f00d::9");
  });
  it("takes neither times nor versions for an address", () => {
    for (const text of [
      "102 % full outbound: 153.2 Mb/s of 150 Mb/s",
      "since 10:25:31",
      "version 1.2.3",
      "1.2.3.4.5 is none",
    ])
      expect(asked("pel-wan-1 Transport A", text).get("address")).toBeNull();
  });
});
