import { cleanup, fireEvent, screen, waitFor } from "@testing-library/react";
import { useSearchParams } from "react-router";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { client } from "../../api/client";
import { Places } from "../../app/Places";
import { alarmRow } from "../../testing/alarms";
import { show } from "../../testing/show";
import { EnterLinks } from "../fleet/EnterLinks";
import { Impact } from "./Impact";
import { MapHover, nodeWords } from "./MapHover";
import { MapPanel, sizeOf } from "./MapPanel";
import { MapTable } from "./MapTable";
import { MapTools } from "./MapTools";
import type { MapLink, NetworkMap, Node } from "./mapGeometry";
import { Way } from "./Way";

vi.mock("../../api/client", async (original) => ({
  ...(await original<typeof import("../../api/client")>()),
  client: { GET: vi.fn(), POST: vi.fn() },
  got: (answer: Promise<unknown>) => answer,
}));
type Call = (path: string, options: Record<string, unknown>) => Promise<unknown>;
const get = vi.mocked(client.GET as unknown as Call);
const post = vi.mocked(client.POST as unknown as Call);
let answers: Record<string, unknown> = {};

const card = (key: string, more: Partial<Node> = {}): Node => ({
  key,
  kind: "device",
  name: key,
  devices: 1,
  silent: 0,
  members: [],
  networks: {},
  severity: 0,
  site: "Hexwater",
  address: "127.0.0.1",
  model: "TB-40",
  serial: "56700EE0",
  mac: "02:00:00:00:00:01",
  cells: [],
  is_outside: false,
  x: 0,
  y: 0,
  ...more,
});
const end = (node: string, more: Partial<MapLink["a"]> = {}): MapLink["a"] => ({
  node,
  device_id: Number(node.split("-")[1]),
  device: node,
  interface_id: 7,
  label: "",
  name: "g7",
  severity: 0,
  ...more,
});
const link = (more: Partial<MapLink> = {}): MapLink => ({
  a: end("device-1"),
  b: end("device-2", { interface_id: 8, name: "g8" }),
  evidence: "both ends",
  contradiction: "",
  since: null,
  lost_at: null,
  entered: null,
  speed_bps: 1e9,
  there: { bps: 9e8, percent: 90 },
  back: { bps: 1e6, percent: 0.1 },
  error_rate: 0,
  state: "up",
  ...more,
});
const map = (links: MapLink[], nodes = [card("device-1"), card("device-2")]): NetworkMap => ({
  map: "devices",
  nodes,
  links,
  background: null,
});
const now = {
  at: "2026-11-01T12:00:00Z",
  headline: { strong: "All well", rest: ".", second: "" },
  active: 1,
  causes: [{ row: alarmRow(3, { label: "hex-wan-1", site: "Hexwater", device_id: 1, consequences: 2 }), spark: [] }],
};

beforeEach(() => {
  answers = { "/api/v1/now": now, "/api/v1/map/impact": { cut_off: [], one_way_left: [] } };
  get.mockReset().mockImplementation((path) => Promise.resolve(answers[path]));
  post.mockReset();
});
afterEach(cleanup);

const panel = (more: Partial<Parameters<typeof MapPanel>[0]>, path = "/map") => {
  const onPick = vi.fn();
  const onOpen = vi.fn();
  show(
    <MapPanel
      map={map([link()])}
      node={undefined}
      link={undefined}
      onPick={onPick}
      onOpen={onOpen}
      onRemove={null}
      {...more}
    />,
    path,
  );
  return { onPick, onOpen };
};

describe("beside the map", () => {
  it("stands what is wrong, which links are down, and which are busiest", async () => {
    const down = link({ state: "down", a: end("device-3") });
    const { onPick } = panel({ map: map([link(), down]) });
    await screen.findByText("All well");
    expect(screen.getByText(/2 consequences/)).toBeTruthy();
    expect(screen.getByRole("heading", { name: /Links that are down/ })).toBeTruthy();
    fireEvent.click(screen.getByRole("button", { name: /device-3 g7/ }));
    expect(onPick).toHaveBeenCalledWith("device-3.7~device-2.8");
    expect(screen.getByRole("button", { name: /device-1 g7 – device-2 g8/ }).textContent).toContain("90 %");
  });

  it("stands at a site what is wrong there alone", async () => {
    panel({}, "/map?site=Saltby");
    await screen.findByText("No active alarms here.");
  });

  it("stands a device with its own alarms, and its links with what goes out of it first", async () => {
    const { onPick } = panel({ node: card("device-2", { severity: 4, silent: 1 }) });
    expect(screen.getByText(/does not answer/)).toBeTruthy();
    fireEvent.click(screen.getByRole("button", { name: /g8 – device-1 g7/ }));
    expect(onPick).toHaveBeenCalledWith("device-1.7~device-2.8");
    await waitFor(() => expect(screen.getByText("Nothing would be cut off.")).toBeTruthy());
    expect(screen.queryByText("hex-wan-1")).toBeNull();
    cleanup();
    panel({ node: card("device-1") });
    await screen.findByText("hex-wan-1");
  });

  it("opens a site by one key", () => {
    const site = card("site-1", { kind: "site", devices: 3 });
    const { onOpen } = panel({ node: site });
    fireEvent.click(screen.getByRole("button", { name: "inside this site" }));
    expect(onOpen).toHaveBeenCalledWith(site);
    expect(nodeWords(site)).toBe("3 devices");
  });

  it("stands a link with both ends, how it is known, and what speaks against it", () => {
    const onRemove = vi.fn();
    const told = link({
      evidence: "by hand",
      entered: 9,
      contradiction: "one of its ports sees another neighbour",
      lost_at: "2026-11-01T11:00:00Z",
      error_rate: 12,
      b: end("transport-2", { device: "Ring", device_id: null, interface_id: null, name: "" }),
    });
    panel({ link: told, onRemove });
    expect(screen.getByText("sends 900 Mb/s, 90 %")).toBeTruthy();
    expect(screen.getByText(/Ring, a network that is not in the inventory/)).toBeTruthy();
    expect(screen.getByText("But one of its ports sees another neighbour.")).toBeTruthy();
    expect(screen.getByText(/Nobody sees it any more since/)).toBeTruthy();
    expect(screen.getByText("12 a second at the worse end.")).toBeTruthy();
    fireEvent.click(screen.getByRole("button", { name: "Remove the link by hand" }));
    expect(onRemove).toHaveBeenCalledWith(9);
  });

  it("cannot be removed by somebody who may not", () => {
    panel({ link: link({ entered: 9 }) });
    expect(screen.queryByRole("button", { name: /Remove/ })).toBeNull();
  });
});

it("says what would be cut off, with the ports in use, and names the first of many", async () => {
  const hits = Array.from({ length: 10 }, (_, n) => ({ id: n, name: `sw-${n}`, site: "", ports_up: 3 }));
  answers["/api/v1/map/impact"] = { cut_off: hits, one_way_left: hits.slice(0, 1) };
  show(<Impact question={{ node: "device-1" }} />);
  await screen.findByText("10 devices, 30 ports in use");
  const said = screen.getByRole("region", { name: "If it fails" }).textContent;
  expect(said).toContain("sw-7 and 2 more.");
  expect(said).toContain("1 device would have one way left: sw-0.");
});

describe("the way", () => {
  const way = (more: Record<string, unknown> = {}) => {
    answers["/api/v1/map/way"] = {
      start: { name: "192.0.2.9", device_id: 1, interface_id: 5, label: "Desk", address: "192.0.2.9" },
      goal: { name: "device-2", device_id: 2, interface_id: null, label: "", address: "" },
      notes: ["02:01:00:00:00:01 is at device-1 Desk"],
      ways: [[link()]],
      is_broken: false,
      yesterday: [],
      unseen: [],
      ...more,
    };
    show(<Way />, "/map?start=device-1&goal=device-2");
  };
  it("is told hop by hop, with another one", async () => {
    way({ ways: [[link()], [link({ a: end("device-1", { interface_id: 9, name: "g9" }) })]], unseen: ["Ring"] });
    await screen.findByText("Another way");
    expect(screen.getByRole("heading", { level: 2 }).textContent).toContain("The way from 192.0.2.9 to device-2");
    expect(screen.getByText("02:01:00:00:00:01 is at device-1 Desk.")).toBeTruthy();
    expect(screen.getByText(/none shared/)).toBeTruthy();
    expect(screen.getAllByText("90 %")).toHaveLength(2);
    expect(screen.getByText("Nothing is seen inside Ring: it is not in the inventory.")).toBeTruthy();
  });
  it("says how much of another way is shared", async () => {
    const further = link({ a: end("device-2", { interface_id: 11 }), b: end("device-3") });
    way({
      ways: [
        [link(), further],
        [link({ a: end("device-1", { interface_id: 9 }) }), further],
      ],
    });
    await screen.findByText(/1 of them shared/);
  });
  it("needs no link where both are at one device", async () => {
    way({ ways: [[]] });
    await screen.findByText(/Both are at the same device/);
  });
  it("says that it is broken, and how it was a day before", async () => {
    way({ ways: [[link({ state: "down" })]], is_broken: true, yesterday: ["device-1", "device-5", "device-2"] });
    await screen.findByText(/There is none now/);
    expect(screen.getByText("device-1 – device-5 – device-2")).toBeTruthy();
    expect(screen.queryByText(/No second way/)).toBeNull();
  });
  it("says that none is known", async () => {
    way({ ways: [] });
    await screen.findByText(/No way is known/);
  });
});

describe("links by hand", () => {
  it("are read while they are typed, and kept when they are added", async () => {
    post.mockResolvedValue({ added: 1, problems: [{ number: 3, words: "a – b", problem: "No device is called b." }] });
    const onDone = vi.fn();
    show(<EnterLinks onDone={onDone} />);
    expect((screen.getByRole("button", { name: "Add these links" }) as HTMLButtonElement).disabled).toBe(true);
    const text = "from_device,to_device\nx,y\na,b";
    fireEvent.change(screen.getByRole("textbox"), { target: { value: text } });
    await screen.findByText("1 link would be added.");
    expect(screen.getByText("Line 3, a – b: No device is called b.")).toBeTruthy();
    expect(post.mock.lastCall?.[1]).toEqual({ body: { text, keep: false } });
    fireEvent.click(screen.getByRole("button", { name: "Add these links" }));
    await waitFor(() => expect(onDone).toHaveBeenCalled());
    expect(post.mock.calls.some(([, { body }]) => (body as { keep: boolean }).keep)).toBe(true);
  });
  it("that are refused stay as they were typed", async () => {
    post.mockImplementation((_, { body }) =>
      (body as { keep: boolean }).keep
        ? Promise.reject(new Error("Line 2: no. Nothing was added."))
        : Promise.resolve({ added: 0, problems: [] }),
    );
    show(<EnterLinks onDone={vi.fn()} />);
    const field = screen.getByRole("textbox") as HTMLTextAreaElement;
    fireEvent.change(field, { target: { value: "from_device,to_device\nx,y" } });
    await screen.findByText("0 links would be added.");
    fireEvent.click(screen.getByRole("button", { name: "Add these links" }));
    await screen.findByText("Line 2: no. Nothing was added.");
    expect(field.value).toContain("x,y");
  });
});

function Address() {
  return <output>{useSearchParams()[0].toString()}</output>;
}

describe("what is shown of the map", () => {
  const nodes = [
    card("device-1", { name: "hex-wan-1" }),
    card("device-2", { name: "hex-acc-1", address: "127.64.0.9" }),
  ];
  it("is in the address", () => {
    show(
      <>
        <MapTools nodes={nodes} onFound={vi.fn()} />
        <Address />
      </>,
      "/map?site=Hexwater",
    );
    fireEvent.click(screen.getByRole("button", { name: "errors" }));
    fireEvent.click(screen.getByRole("checkbox", { name: "leaves" }));
    expect(screen.getByRole("status").textContent).toBe("site=Hexwater&by=errors&leaves=hidden");
    fireEvent.click(screen.getByRole("button", { name: "sites" }));
    expect(screen.getByRole("status").textContent).toBe("by=errors&leaves=hidden");
  });
  it("is found by name or address, one after the other", () => {
    const onFound = vi.fn();
    show(<MapTools nodes={nodes} onFound={onFound} />, "/map");
    const field = screen.getByRole("searchbox", { name: "Find on the map" });
    fireEvent.change(field, { target: { value: "hex" } });
    for (let turn = 0; turn < 3; turn++) fireEvent.submit(field);
    expect(onFound.mock.calls.map(([node]) => node.key)).toEqual(["device-1", "device-2", "device-1"]);
    fireEvent.change(field, { target: { value: "nobody" } });
    expect(screen.getByText("none")).toBeTruthy();
  });
  it("is named with how much is on it", () => {
    const transport = card("transport-1", { kind: "transport" });
    expect(sizeOf(map([link()], [card("device-1"), transport, card("site-2", { is_outside: true })]))).toBe(
      "1 device, 1 link",
    );
  });
});

it("has a table with both ways of each link", () => {
  const onPick = vi.fn();
  show(<MapTable links={[link({ error_rate: null, contradiction: "it is not so" })]} onPick={onPick} />);
  const row = screen.getAllByRole("row")[1]?.textContent ?? "";
  expect(row).toContain("900 Mb/s · 90 %");
  expect(row).toContain("LLDP at both ends, but it is not so");
  fireEvent.click(screen.getByRole("button"));
  expect(onPick).toHaveBeenCalledWith("device-1.7~device-2.8");
});

it("says under the pointer what a link carries, and nothing where nothing is", () => {
  const at = { x: 10, y: 10 };
  show(<MapHover link={link()} at={at} width={500} />);
  expect(screen.getByText("→ 900 Mb/s, 90 %")).toBeTruthy();
  cleanup();
  show(<MapHover at={at} width={500} />);
  expect(document.body.textContent).toBe("");
});

it("names the place where one is in the menu of a narrow screen", () => {
  show(<Places />, "/fleet/device/3");
  expect(screen.getByRole("button", { name: "Fleet" })).toBeTruthy();
  expect(screen.getAllByRole("link").map((each) => each.textContent)).toContain("Map");
});
