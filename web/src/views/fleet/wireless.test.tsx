import { cleanup, fireEvent, screen, waitFor, within } from "@testing-library/react";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { ApiProblem, client } from "../../api/client";
import { show } from "../../testing/show";
import { PoweredList } from "./Powered";
import { DeviceRoutes } from "./Routes";
import { StationList } from "./Stations";
import { DeviceWireless, PortAccessPoint, WirelessList } from "./Wireless";

vi.mock("../../api/client", async (original) => ({
  ...(await original<typeof import("../../api/client")>()),
  client: { GET: vi.fn() },
  got: (answer: Promise<unknown>) => answer,
}));
vi.mock("../../app/session", () => ({ useMay: () => () => true }));
type Call = (path: string, options: { params: { query?: Record<string, unknown> } }) => Promise<unknown>;
const get = vi.mocked(client.GET as unknown as Call);
let answers: Record<string, unknown> = {};

const point = (more: Record<string, unknown> = {}) => ({
  id: 7,
  name: "hall",
  mac: "02:01:00:00:00:01",
  address: "10.0.40.1",
  model: "A4",
  is_up: true,
  changed_at: "2026-11-01T10:00:00Z",
  controller_id: 3,
  controller: "wlc",
  device_id: null,
  plugged_in: {
    device_id: 1,
    device: "sw-1",
    site: "Depot",
    interface_id: 5,
    label: "Hall 1",
    since: "2026-11-01T10:00:00Z",
  },
  networks: [
    { name: "Public", clients: 9 },
    { name: "Staff", clients: 1 },
  ],
  clients: 10,
  ...more,
});
const phone = {
  mac: "02:02:00:00:00:09",
  address: "10.255.0.9",
  network: "Public",
  signal_dbm: -67,
  access_point_id: 7,
  access_point: "hall",
  controller_id: 3,
  since: "2026-11-01T10:00:00Z",
  gone_at: null,
};

beforeEach(() => {
  answers = {
    "/api/v1/access-points": { rows: [point()], networks: [{ name: "Public", clients: 9 }] },
    "/api/v1/wireless-clients": { rows: [phone], total: 1 },
  };
  get.mockReset().mockImplementation((path) => Promise.resolve(answers[path]));
});
afterEach(cleanup);

describe("access points", () => {
  it("are listed with the port that each is plugged in at and its clients", async () => {
    show(<WirelessList />, "/fleet?list=wireless");
    await screen.findByText("Public 9 · Staff 1");
    expect(screen.getByRole("link", { name: "Hall 1" }).getAttribute("href")).toContain("/fleet/port/5");
    const networks = screen.getByRole("navigation", { name: "Wireless networks" });
    expect(within(networks).getByRole("link", { name: "map" }).getAttribute("href")).toBe(
      "/map?show=devices&part=wireless-Public",
    );
  });
  it("say that they are not joined, and that a port is not known", async () => {
    answers["/api/v1/access-points"] = { rows: [point({ is_up: false, plugged_in: null })], networks: [] };
    show(<WirelessList />, "/fleet?list=wireless");
    expect(await screen.findByText("not joined to wlc")).toBeTruthy();
    expect(screen.getByText("port not known")).toBeTruthy();
  });
  it("show who is there once one is chosen", async () => {
    show(<WirelessList />, "/fleet?list=wireless");
    fireEvent.click(await screen.findByRole("link", { name: "hall" }));
    const clients = await screen.findByRole("region", { name: "Clients of hall" });
    await within(clients).findByText("−67 dBm");
    expect(get).toHaveBeenCalledWith("/api/v1/wireless-clients", { params: { query: { access_point: 7 } } });
  });
  it("lead to the device that one is itself", async () => {
    answers["/api/v1/access-points"] = { rows: [point({ device_id: 12 })], networks: [] };
    show(<WirelessList />, "/fleet?list=wireless");
    expect((await screen.findByRole("link", { name: "hall" })).getAttribute("href")).toContain("/fleet/device/12");
  });
  it("are told of at their port and on their controller's page", async () => {
    show(
      <>
        <PortAccessPoint port={5} />
        <DeviceWireless device={3} />
      </>,
    );
    expect((await screen.findByRole("note", { name: "Access point" })).textContent).toContain("hall: Public 9");
    expect(screen.getByRole("region", { name: "Wireless" }).textContent).toContain("1 access point");
  });
  it("are nothing where there are none", async () => {
    answers["/api/v1/access-points"] = { rows: [], networks: [] };
    show(
      <>
        <PortAccessPoint port={5} />
        <DeviceWireless device={3} />
      </>,
    );
    await waitFor(() => expect(get).toHaveBeenCalledTimes(2));
    expect(screen.queryByRole("note")).toBeNull();
    expect(screen.queryByRole("region")).toBeNull();
  });
});

it("a wireless client is found with where it is and was", async () => {
  answers["/api/v1/stations"] = { rows: [], total: 0 };
  answers["/api/v1/stations/{what}"] = [
    {
      mac: phone.mac,
      addresses: [],
      here: null,
      shared: 0,
      before: [],
      wireless: [phone, { ...phone, access_point_id: 8, access_point: "desk", gone_at: "2026-11-01T09:00:00Z" }],
    },
  ];
  show(<StationList />, `/fleet?list=stations&station=${phone.mac}`);
  const found = await screen.findByRole("region", { name: `Where ${phone.mac} is` });
  await waitFor(() => expect(found.textContent).toContain("is in Public at access point hall, −67 dBm since"));
  expect(found.textContent).toContain("was in Public at access point desk");
  expect(found.textContent).not.toContain("is not seen");
});

describe("power over Ethernet", () => {
  it("is listed with what takes it", async () => {
    answers["/api/v1/powered"] = [
      {
        device_id: 1,
        device: "sw-1",
        site: "Depot",
        interface_id: 5,
        label: "Hall 1",
        neighbour: "",
        access_point: "hall",
        macs: { "02:01:00:00:00:01": ["10.0.40.1"], "02:01:00:00:00:02": [], "02:01:00:00:00:03": [] },
      },
      {
        device_id: 1,
        device: "sw-1",
        site: "Depot",
        interface_id: 6,
        label: "Desk",
        neighbour: "",
        access_point: "",
        macs: {},
      },
    ];
    show(<PoweredList />, "/fleet?list=power");
    expect(await screen.findByText("2 ports giving power")).toBeTruthy();
    expect(screen.getByText("access point hall")).toBeTruthy();
    expect(screen.getByText(/and 1 more/)).toBeTruthy();
    expect(screen.getByText("nothing is heard there")).toBeTruthy();
  });
});

describe("routes", () => {
  const route = (network: string, more: Record<string, unknown> = {}) => ({
    network,
    next_hop: "10.12.0.2",
    device_id: 2,
    device: "r2",
    interface_id: 5,
    label: "To r2",
    protocol: "OSPF",
    metric: 20,
    is_discarding: false,
    since: "2026-11-01T10:00:00Z",
    ...more,
  });
  it("name the device that has the next hop; many are shown when asked for", async () => {
    const rows = Array.from({ length: 14 }, (_, number) => route(`10.${number}.0.0/16`));
    answers["/api/v1/devices/{device}/routes"] = { rows, total: 14 };
    show(<DeviceRoutes device={1} />);
    expect((await screen.findAllByRole("link", { name: "r2" })).length).toBe(12);
    fireEvent.click(screen.getByRole("button", { name: "all 14 routes" }));
    expect(screen.getByText("10.13.0.0/16")).toBeTruthy();
  });
  it("are looked up by an address, and a wrong one is answered in words", async () => {
    answers["/api/v1/devices/{device}/routes"] = { rows: [route("0.0.0.0/0", { is_discarding: true })], total: 9 };
    show(<DeviceRoutes device={1} />);
    expect(await screen.findByText("dropped")).toBeTruthy();
    get.mockImplementation((_, options) =>
      options.params.query?.to === "10.9.9.9"
        ? Promise.resolve({ rows: [], total: 9 })
        : Promise.reject(new ApiProblem(422, "nowhere is not an address.")),
    );
    fireEvent.change(screen.getByRole("searchbox"), { target: { value: "10.9.9.9" } });
    expect(await screen.findByText("No route leads there.")).toBeTruthy();
    fireEvent.change(screen.getByRole("searchbox"), { target: { value: "nowhere" } });
    expect(await screen.findByText("nowhere is not an address.")).toBeTruthy();
  });
});
