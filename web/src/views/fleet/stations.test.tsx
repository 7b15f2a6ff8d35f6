import { cleanup, fireEvent, screen, waitFor } from "@testing-library/react";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { client } from "../../api/client";
import { useMay } from "../../app/session";
import { show } from "../../testing/show";
import { ExpectedLinks } from "./ExpectedLinks";
import { DeviceBridge, PortLayer2 } from "./Layer2";
import { PortActions } from "./PortActions";
import { RestartDevice } from "./RestartDevice";
import { PortStations, StationList } from "./Stations";

vi.mock("../../api/client", async (original) => ({
  ...(await original<typeof import("../../api/client")>()),
  client: { GET: vi.fn(), POST: vi.fn(), DELETE: vi.fn() },
  got: (answer: Promise<unknown>) => answer,
}));
vi.mock("../../app/session", () => ({ useMay: vi.fn() }));
type Call = (path: string, options: Record<string, unknown>) => Promise<unknown>;
const get = vi.mocked(client.GET as unknown as Call);
const post = vi.mocked(client.POST as unknown as Call);
let answers: Record<string, unknown> = {};

const stay = (more: Record<string, unknown> = {}) => ({
  interface_id: 5,
  label: "Desk 1",
  device_id: 1,
  device: "sw-1",
  site: "Depot",
  vlan: 10,
  vlan_name: "Staff",
  since: "2026-11-01T10:00:00Z",
  gone_at: null,
  ...more,
});
const row = { ...stay(), mac: "02:01:00:00:00:01", addresses: ["192.0.2.9"] };

beforeEach(() => {
  answers = { "/api/v1/stations": { rows: [row], total: 1 } };
  get.mockReset().mockImplementation((path) => Promise.resolve(answers[path]));
  post.mockReset();
  vi.mocked(useMay).mockReturnValue(() => true);
});
afterEach(cleanup);

describe("stations", () => {
  it("are listed with addresses, port and VLAN", async () => {
    show(<StationList />, "/fleet?list=stations");
    await screen.findByText("192.0.2.9");
    expect(screen.getByText("VLAN 10 Staff")).toBeTruthy();
    expect(screen.getByRole("link", { name: "Desk 1" }).getAttribute("href")).toContain("/fleet/port/5");
  });
  it("have a history, and what is between them and the port is told", async () => {
    answers["/api/v1/stations/{what}"] = [
      {
        mac: row.mac,
        addresses: [],
        here: stay(),
        shared: 3,
        wireless: [],
        before: [stay({ label: "Desk 7", gone_at: "2026-11-01T09:00:00Z" })],
      },
    ];
    show(<StationList />, "/fleet?list=stations&station=02:01:00:00:00:01");
    await screen.findByText(/is at/);
    expect(screen.getByText(/3 other stations: what is between is not in the inventory/)).toBeTruthy();
    expect(screen.getByText(/was at/).textContent).toContain("Desk 7");
  });
  it("say what to do where there are none", async () => {
    answers["/api/v1/stations"] = { rows: [], total: 0 };
    show(<StationList />, "/fleet?list=stations&words=nothing");
    await screen.findByText(/No matching stations/);
  });
  it("stand at their port", async () => {
    show(<PortStations port={5} />);
    await screen.findByText(row.mac);
  });
});

describe("layers 2 and 3", () => {
  it("of a port are one sentence", async () => {
    answers["/api/v1/interfaces/{interface}/layer2"] = {
      pvid: 1,
      tagged: [10, 20],
      untagged: [],
      vlans: { "10": "Staff" },
      aggregate_id: null,
      aggregate: "",
      members: [],
      stp_role: "root",
      stp_since: null,
      mtu: 9000,
    };
    show(<PortLayer2 port={5} />);
    const note = await screen.findByRole("note");
    expect(note.textContent).toBe("Tagged VLANs 10 Staff, 20 · root port of the spanning tree · MTU 9,000 octets");
  });
  it("of a device name the root by its device", async () => {
    answers["/api/v1/devices/{device}/layers"] = {
      bridge: {
        at: "2026-11-01T10:00:00Z",
        address: "",
        stations: 12,
        root: "8192 02:00:00:00:00:01",
        root_device_id: 2,
        root_device: "core-1",
        root_interface_id: 25,
        root_label: "x1",
        root_since: null,
        changes_per_hour: 61.2,
        vlans: { "10": "Staff" },
      },
      own_addresses: [{ interface_id: 1, label: "lo", address: "192.0.2.1", prefix: 24 }],
    };
    show(<DeviceBridge device={1} />);
    await screen.findByRole("link", { name: "core-1" });
    expect(screen.getByText(/61 topology changes an hour/)).toBeTruthy();
    expect(screen.getByText(/192.0.2.1\/24/)).toBeTruthy();
  });
});

describe("the expected topology", () => {
  const differs = {
    interface_id: 5,
    label: "x1",
    device_id: 1,
    device: "sw-1",
    expected: "core-1 t4",
    seen: "core-2",
    is_frozen: true,
  };
  it("is accepted port by port, and frozen as a whole", async () => {
    answers["/api/v1/links/expected"] = { frozen: 0, frozen_at: null, frozen_by: "", differences: [differs] };
    post.mockResolvedValue({ ports: 66 });
    show(<ExpectedLinks />);
    await screen.findByText(/expected is core-1 t4/);
    fireEvent.click(screen.getByRole("button", { name: "accept" }));
    await waitFor(() => expect(post.mock.lastCall?.[0]).toBe("/api/v1/interfaces/{interface}/expected"));
    fireEvent.click(screen.getByRole("button", { name: "freeze it as it is now" }));
    await waitFor(() => expect(post.mock.lastCall?.[0]).toBe("/api/v1/links/expected"));
  });
  it("is only read by somebody who may not change it", async () => {
    vi.mocked(useMay).mockReturnValue(() => false);
    answers["/api/v1/links/expected"] = {
      frozen: 3,
      frozen_at: "2026-11-01T10:00:00Z",
      frozen_by: "anna",
      differences: [],
    };
    show(<ExpectedLinks />);
    await screen.findByText(/What is seen is what is expected/);
    expect(screen.queryByRole("button")).toBeNull();
  });
});

describe("a change on a device", () => {
  const open = async () => {
    show(<PortActions port={5} label="sw-1 Desk 1" />);
    fireEvent.click(screen.getByRole("button", { name: /change on the device/ }));
  };
  it("is refused with the reason while Lumtar is read-only", async () => {
    answers["/api/v1/interfaces/{interface}/actions"] = { rows: [], refused: "Lumtar is read-only." };
    await open();
    await screen.findByText("Lumtar is read-only.");
    expect(screen.queryByRole("button", { name: "Do it now" })).toBeNull();
  });
  it("asks why, says what would be cut off, and tells what the device says", async () => {
    answers["/api/v1/interfaces/{interface}/actions"] = {
      rows: [{ name: "port_down", words: "switch the port off", has_text: false }],
      refused: "",
    };
    answers["/api/v1/map/impact"] = { cut_off: [{ id: 2, name: "sw-2", site: "", ports_up: 4 }], one_way_left: [] };
    post.mockResolvedValue({ is_done: true, words: "ifAdminStatus is down now.", before: "up", after: "down" });
    await open();
    fireEvent.click(await screen.findByLabelText("switch the port off"));
    await screen.findByText(/would be cut off: sw-2/);
    fireEvent.change(screen.getByLabelText(/Why/), { target: { value: "moved" } });
    fireEvent.submit(screen.getByRole("button", { name: "Do it now" }).closest("form") as HTMLFormElement);
    await screen.findByText(/Done: ifAdminStatus is down now/);
    expect(post.mock.lastCall?.[1]).toMatchObject({ body: { action: "port_down", reason: "moved", text: "" } });
  });
  it("is no restart where the profile does not say how", async () => {
    answers["/api/v1/devices/{device}/restart"] = { is_there: false, refused: "" };
    show(<RestartDevice device={1} onDone={() => {}} />);
    await screen.findByText(/does not say how it is restarted/);
  });
});
