import { cleanup, fireEvent, screen, waitFor, within } from "@testing-library/react";
import { useLocation } from "react-router";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { client } from "../../api/client";
import type { ServiceClass, Sla } from "../../api/pathQueries";
import { show } from "../../testing/show";
import { within as inner, minutes, monthBeside, promised, share } from "./levelWords";
import { Paths } from "./Paths";

vi.mock("../../api/client", async (original) => ({
  ...(await original<typeof import("../../api/client")>()),
  client: { GET: vi.fn(), POST: vi.fn(), PUT: vi.fn(), DELETE: vi.fn() },
  got: (answer: Promise<unknown>) => answer,
}));
vi.mock("../../components/theme", () => ({ colour: (token: string) => token, useTheme: () => "light" }));
vi.mock("../../charts/RateChart", () => ({ RateChart: () => <img alt="Traffic beneath" /> }));
vi.mock("../../charts/plot", () => ({ SYNC: { key: "" }, timeAxis: () => ({}), valueAxis: () => ({}) }));
vi.mock("../../charts/Plot", () => ({ Plot: ({ label }: { label: string }) => <img alt={label} /> }));
vi.mock("../../app/session", async (original) => ({
  ...(await original<typeof import("../../app/session")>()),
  useMay: () => () => true,
}));
type Call = (
  path: string,
  options: { body?: unknown; params?: { query?: Record<string, string> } },
) => Promise<unknown>;
const get = vi.mocked(client.GET as unknown as Call);
const post = vi.mocked(client.POST as unknown as Call);
let answers: Record<string, unknown> = {};

const voice: ServiceClass = {
  id: 2,
  name: "voice",
  limits: { path_delay_95: 60, path_loss: 1, path_mos: 4 },
  share: 99,
  hours: "Mon-Fri 08:00-18:00",
  zone: "UTC",
  paths: 3,
};
const kept = (more: Partial<Sla["rows"][0]> = {}): Sla["rows"][0] => ({
  name: "voice",
  service_class: "voice",
  promised: 99,
  paths: [4, 5],
  kept: 98.437,
  available: 100,
  forecast: 98.1,
  judged: 1000,
  missed: 16,
  excluded: 60,
  budget: 432,
  left: -106,
  missed_by: { path_delay_95: 16 },
  days: [null, 100, 60],
  ...more,
});
const month: Sla = {
  start: "2026-11-01T00:00:00Z",
  end: "2026-12-01T00:00:00Z",
  until: "2026-11-03T00:00:00Z",
  words: "1 of 2 were not kept.",
  promises: [],
  rows: [kept(), kept({ name: "copies", service_class: "copies", promised: 95, kept: 100, left: 600, forecast: null })],
};
const Where = () => <output>{useLocation().search}</output>;

beforeEach(() => {
  vi.clearAllMocks();
  answers = {
    "/api/v1/sla": month,
    "/api/v1/service-classes": [voice],
    "/api/v1/transports": [
      {
        id: 7,
        name: "Line A",
        provider: "Cairnholm",
        site: "Hexwater",
        down_bps: 1e8,
        up_bps: null,
        price: 49.9,
        currency: "EUR",
        paths: [4],
      },
    ],
    "/api/v1/sites": [{ name: "Hexwater" }],
  };
  get.mockImplementation(async (path) => answers[path]);
  post.mockImplementation(async () => ({}));
});
afterEach(cleanup);

describe("words of service levels", () => {
  it("cut shares off and never round them up to a promise that was kept", () => {
    expect([share(99.999), share(100), share(98.437), share(null)]).toEqual(["99.99 %", "100 %", "98.43 %", "–"]);
    expect(minutes(-106)).toMatch(/^−1 h/);
  });
  it("say what is promised", () => {
    expect(promised(voice)).toBe("delay ≤ 60 ms, loss ≤ 1 %, calls ≥ 4 for 99 % of the time, Mon-Fri 08:00-18:00");
  });
  it("go from month to month and from what is put together to what it is made of", () => {
    expect([monthBeside("2026-01", -1), monthBeside("2026-12", 1)]).toEqual(["2025-12", "2027-01"]);
    expect(inner("provider", kept({ name: "Cairnholm" }))).toEqual({ by: "transport", provider: "Cairnholm" });
    expect(inner("path", kept())).toBeNull();
  });
});

describe("service levels", () => {
  const levels = (search = "") =>
    show(
      <>
        <Paths />
        <Where />
      </>,
      `/paths?list=levels${search}`,
    );
  it("tell of a month what was kept and what is left, with the files of it", async () => {
    levels("&month=2026-11");
    await screen.findByText("1 of 2 were not kept.");
    const row = within(screen.getByRole("region", { name: "Service levels" })).getAllByRole(
      "listitem",
    )[0] as HTMLElement;
    expect(row.textContent).toContain("voice 2 paths98.43 %99 %98.10 %−1 h");
    expect(within(row).getByRole("img", { name: "1 day below the promise" })).toBeTruthy();
    expect(screen.getByText("1 of 2 were not kept.")).toBeTruthy();
    const file = new URLSearchParams(screen.getByRole("link", { name: "PDF" }).getAttribute("href")?.split("?")[1]);
    expect([file.get("month"), file.get("by"), file.get("format")]).toEqual(["2026-11", "class", "pdf"]);
    fireEvent.click(screen.getByRole("button", { name: "month before" }));
    await waitFor(() => expect(get.mock.calls.at(-1)?.[1]?.params?.query?.month).toBe("2026-10"));
  });
  it("are narrowed by a click, and each filter is taken away by itself", async () => {
    levels();
    fireEvent.click(await screen.findByRole("link", { name: "voice" }));
    await waitFor(() => expect(screen.getByRole("status").textContent).toContain("by=path&class=voice"));
    fireEvent.click(screen.getByRole("button", { name: /class voice/ }));
    await waitFor(() => expect(screen.getByRole("status").textContent).not.toContain("class=voice"));
  });
  it("are promised by a form", async () => {
    levels();
    fireEvent.click(await screen.findByRole("button", { name: "new service class" }));
    fireEvent.change(await screen.findByLabelText("Name"), { target: { value: "films" } });
    fireEvent.change(screen.getByLabelText(/^Loss/), { target: { value: "0.5" } });
    fireEvent.change(screen.getByLabelText(/For how much/), { target: { value: "98.5" } });
    fireEvent.submit(screen.getByLabelText("Name").closest("form") as HTMLFormElement);
    await waitFor(() =>
      expect(post.mock.calls[0]?.[1].body).toMatchObject({ name: "films", limits: { path_loss: 0.5 }, share: 98.5 }),
    );
  });
  it("know transports, which are changed by a form", async () => {
    levels();
    expect(await screen.findByText(/Cairnholm, 100 Mb\/s down, 49.90 EUR a month/)).toBeTruthy();
    fireEvent.click(screen.getByRole("button", { name: "new transport" }));
    fireEvent.change(await screen.findByLabelText("Name"), { target: { value: "Line B" } });
    fireEvent.change(screen.getByLabelText("Provider"), { target: { value: "Fellbrook" } });
    fireEvent.change(screen.getByLabelText(/^Down/), { target: { value: "250" } });
    fireEvent.submit(screen.getByLabelText("Name").closest("form") as HTMLFormElement);
    await waitFor(() =>
      expect(post.mock.calls[0]?.[1].body).toMatchObject({
        name: "Line B",
        down_bps: 250_000_000,
        up_bps: null,
        price: null,
      }),
    );
  });
  it("say what a service class is where there is none", async () => {
    answers["/api/v1/sla"] = { ...month, rows: [], words: "Nothing was judged in this time." };
    levels();
    expect(await screen.findByText(/A service class says what is promised/)).toBeTruthy();
  });
});

describe("transports in use", () => {
  const way = (transport: string, more = {}) => ({
    path_id: 4,
    transport_id: 7,
    transport,
    provider: "Cairnholm",
    is_used: false,
    is_measured: true,
    delay_ms: 20,
    jitter_ms: 1,
    loss_percent: 0,
    missed: [],
    ...more,
  });
  it("are told with what would be better, and with moves before and after", async () => {
    answers["/api/v1/overlay"] = [
      {
        site: "Hexwater",
        service_class: "voice",
        why: "by its routes",
        advice: "Line A misses delay; Line B would keep it.",
        ways: [
          way("Line A", { is_used: true, delay_ms: 180, missed: ["path_delay_95"] }),
          way("Line B", { loss_percent: 100 }),
        ],
      },
    ];
    answers["/api/v1/overlay/moves"] = [
      {
        id: 9,
        site: "Dunmere",
        at: "2026-11-28T10:00:00Z",
        from_transport: "Line C",
        to_transport: "Line D",
        why: "the port of Line C is down",
      },
    ];
    answers["/api/v1/overlay/moves/{move}"] = [
      { service_class: "voice", path_id: 4, before: [null, null, 100], after: [21, 1, 0] },
    ];
    show(<Paths />, "/paths?list=transports");
    expect(await screen.findByText("Line A misses delay; Line B would keep it.")).toBeTruthy();
    expect(screen.getByRole("link", { name: "Line A 180 ms, 0 %" }).getAttribute("title")).toContain("in use");
    expect(screen.getByRole("link", { name: "Line B no answer" })).toBeTruthy();
    expect(screen.getByText(/1 of 1 service classes at sites is below the promise/)).toBeTruthy();
    fireEvent.click(await screen.findByRole("button", { name: /Dunmere/ }));
    expect(await screen.findByText("21 ms, 0 %")).toBeTruthy();
    expect(screen.getAllByText("no answer")).toHaveLength(2);
  });
  it("say what a choice needs where there is none", async () => {
    answers["/api/v1/overlay"] = [];
    answers["/api/v1/overlay/moves"] = [];
    show(<Paths />, "/paths?list=transports");
    expect(await screen.findByText(/Nothing has a choice yet/)).toBeTruthy();
    expect(screen.getByText("Nothing moved.")).toBeTruthy();
  });
});

describe("was it the network?", () => {
  const told = {
    start: "2026-11-28T10:00:00Z",
    end: "2026-11-28T11:00:00Z",
    whence: "hex-wan-1",
    whither: "cen-fw-1",
    answer: "no",
    sentence: "No: Catalogue took 4.3 s for an answer instead of 40 ms.",
    reasons: [],
    timeline: [
      {
        what: "service",
        side: "service",
        words: "Catalogue took 4.3 s",
        start: "2026-11-28T10:15:00Z",
        end: "2026-11-28T10:45:00Z",
        weight: 0.75,
        page: "/paths/64",
      },
      {
        what: "change",
        side: "neither",
        words: "berta changed something",
        start: "2026-11-28T10:10:00Z",
        end: "2026-11-28T10:10:00Z",
        weight: 0,
        page: "",
      },
    ],
    hops: ["hex-wan-1", "Transport A", "cen-fw-1"],
    notes: ["hex-wan-1 sends 0.0.0.0/0 over wan1"],
    usual: ["no link on the way was full"],
    unseen: ["what happens within Transport A"],
  };
  it("asks for two ends, and answers with reasons and with what was not seen", async () => {
    answers["/api/v1/was-it-the-network"] = told;
    answers["/api/v1/paths"] = [];
    show(<Paths />, "/paths?list=question");
    expect(await screen.findByText(/Name two ends/)).toBeTruthy();
    fireEvent.change(screen.getByLabelText("From"), { target: { value: " Hexwater " } });
    fireEvent.change(screen.getByLabelText("To"), { target: { value: "Catalogue" } });
    fireEvent.submit(screen.getByLabelText("From").closest("form") as HTMLFormElement);
    expect((await screen.findByRole("status")).textContent).toBe(told.sentence);
    const asked = get.mock.calls.findLast(([path]) => path === "/api/v1/was-it-the-network")?.[1]?.params?.query;
    expect(asked).toMatchObject({ whence: "Hexwater", whither: "Catalogue" });
    expect(screen.getByRole("link", { name: "Catalogue took 4.3 s" }).getAttribute("href")).toMatch(/^\/paths\/64/);
    expect(screen.getByTitle("service, 30 min").firstElementChild?.getAttribute("style")).toContain(
      "left: 25%; width: 50%",
    );
    expect(screen.getByText("what happens within Transport A")).toBeTruthy();
    expect(screen.getByText("no link on the way was full")).toBeTruthy();
  });
});
