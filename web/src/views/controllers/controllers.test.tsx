import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { cleanup, fireEvent, render, screen, waitFor, within } from "@testing-library/react";
import { MemoryRouter } from "react-router";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { client } from "../../api/client";
import type { Controller, ControllerItem, ControllerProfile } from "../../api/controllerQueries";
import { readLines } from "../../api/lines";
import { Controllers } from "./Controllers";
import { factWords } from "./Told";

vi.mock("../../api/client", async (real) => ({
  ...(await real<typeof import("../../api/client")>()),
  client: { GET: vi.fn(), POST: vi.fn(), PUT: vi.fn(), DELETE: vi.fn() },
  got: (answer: Promise<unknown>) => answer,
}));
vi.mock("../../api/lines", () => ({ readLines: vi.fn() }));
let role = "administrator";
vi.mock("../../app/session", () => ({
  useMay: () => (wanted: string) => role === "administrator" || (role === "engineer" && wanted !== "administrator"),
}));
type Call = (path: string, options: { body?: unknown; params?: unknown }) => Promise<unknown>;
const get = vi.mocked(client.GET as unknown as Call);
const post = vi.mocked(client.POST as unknown as Call);
const put = vi.mocked(client.PUT as unknown as Call);
const lines = vi.mocked(readLines);
let answers: Record<string, unknown> = {};

const controller = (more: Partial<Controller> = {}): Controller => ({
  id: 1,
  name: "Manager",
  base: "https://192.0.2.7",
  profile: 1,
  authority: "",
  credential: 4,
  allowed: "10.0.0.0/8",
  adds: false,
  port: 161,
  every_s: 60,
  enabled: true,
  asked_at: "2026-11-28T10:00:00Z",
  answered_at: "2026-11-28T10:00:00Z",
  problem: "",
  complaints: {},
  counts: { device: 2, transport: 0, tunnel: 1, policy: 0, alarm: 0 },
  new_members: 1,
  missing_members: 0,
  ...more,
});
const item = (more: Partial<ControllerItem> = {}): ControllerItem => ({
  id: 11,
  controller: 1,
  kind: "device",
  name: "hex-wan-1",
  facts: { address: "10.0.0.1", site: "Hexwater", state: "online" },
  up: true,
  device: null,
  device_name: "",
  interface: null,
  about: "",
  severity: 0,
  words: "",
  since: "2026-11-28T09:00:00Z",
  seen_at: "2026-11-28T10:00:00Z",
  missed: 0,
  gone_at: null,
  ...more,
});
const field = (name: string, words: string, is_needed = false) => ({ name, words, is_needed });
const KINDS = {
  lists: [
    {
      name: "device",
      words: "devices",
      has_state: true,
      fields: [field("id", "identifier"), field("name", "name", true), field("address", "address for SNMP", true)],
    },
    {
      name: "tunnel",
      words: "tunnels",
      has_state: true,
      fields: [field("id", "identifier"), field("name", "name", true)],
    },
    {
      name: "alarm",
      words: "alarms",
      has_state: false,
      fields: [field("id", "identifier"), field("text", "what happened", true)],
    },
  ],
  ways: [
    { name: "none", words: "nothing is asked", secret: [] },
    { name: "bearer", words: "a token with each request", secret: ["token"] },
    { name: "session", words: "name and password once", secret: ["user", "password"] },
  ],
};
const PROFILE: ControllerProfile = {
  id: 1,
  name: "County overlay",
  controllers: 1,
  sign_in: { way: "bearer", header: "", path: "", user_field: "username", password_field: "password", token: "" },
  lists: {
    device: { path: "/api/edges", rows: "$[*]", fields: { name: "$.name", address: "$.ip" }, next_page: "", up: [] },
  },
};

beforeEach(() => {
  role = "administrator";
  answers = {
    "/api/v1/controllers": [controller()],
    "/api/v1/controller-kinds": KINDS,
    "/api/v1/controller-profiles": [PROFILE],
    "/api/v1/controllers/{controller}/items": [item()],
    "/api/v1/credentials": { rows: [{ id: 4, name: "Read" }], protocols: { auth: [], priv: [] } },
  };
  get.mockImplementation(async (path) => answers[path] ?? null);
  for (const call of [post, put]) call.mockReset().mockImplementation(async () => ({}));
  lines.mockReset();
});
afterEach(cleanup);

function shown(address = "/setup/controllers") {
  render(
    <QueryClientProvider client={new QueryClient({ defaultOptions: { queries: { retry: false } } })}>
      <MemoryRouter initialEntries={[address]}>
        <Controllers />
      </MemoryRouter>
    </QueryClientProvider>,
  );
}
const told = () => screen.findByRole("region", { name: "What Manager tells of" });

describe("what a controller tells of", () => {
  it("is a list at a time; a member can be added by itself, or all of them", async () => {
    shown();
    const region = await told();
    await within(region).findByText("hex-wan-1");
    expect(region.textContent).toContain("10.0.0.1 · Hexwater");
    expect(region.textContent).toContain("1 member is no device yet.");
    fireEvent.click(within(region).getByRole("button", { name: "Add hex-wan-1" }));
    await waitFor(() =>
      expect(post).toHaveBeenCalledWith("/api/v1/controllers/{controller}/members", {
        params: { path: { controller: 1 } },
        body: { items: [11] },
      }),
    );
    fireEvent.click(within(region).getByRole("button", { name: "Add all that may be" }));
    await waitFor(() =>
      expect(post).toHaveBeenLastCalledWith(
        "/api/v1/controllers/{controller}/members",
        expect.objectContaining({ body: { items: null } }),
      ),
    );
  });

  it("says why it cannot be asked, and keeps what it told before", async () => {
    answers["/api/v1/controllers"] = [
      controller({ problem: "its certificate is not trusted: certificate has expired", complaints: { tunnel: ["x"] } }),
    ];
    shown();
    const region = await told();
    expect(within(region).getByRole("alert").textContent).toContain(
      "certificate has expired. What it told before is shown.",
    );
    expect(within(region).queryByText("Not all of it could be read")).toBeNull();
    await within(region).findByText("hex-wan-1");
  });

  it("says what was wrong with some of it, and who is missing", async () => {
    answers["/api/v1/controllers"] = [
      controller({ complaints: { device: ["Row 3 has no address for SNMP."] }, missing_members: 1, new_members: 0 }),
    ];
    answers["/api/v1/controllers/{controller}/items"] = [
      item({ device: 5, missed: 2 }),
      item({ id: 12, name: "old", gone_at: "2026-11-27T10:00:00Z" }),
      item({ id: 13, name: "down", device: 6, up: false, facts: { address: "10.0.0.3", state: "unreachable" } }),
    ];
    shown();
    const region = await told();
    await within(region).findByText("old");
    expect(region.textContent).toContain("device: Row 3 has no address for SNMP.");
    expect(region.textContent).toContain("1 of 2 members are missing from its last answer");
    const [missing, gone, down] = within(within(region).getByRole("list", { name: "Told" })).getAllByRole("listitem");
    expect(missing?.textContent).toContain("missing from the last 2 answers");
    expect(
      within(missing as HTMLElement)
        .getByRole("link")
        .getAttribute("href"),
    ).toBe("/fleet/device/5");
    expect(gone?.textContent).toContain("not told of since");
    expect(within(gone as HTMLElement).queryByRole("button")).toBeNull();
    expect(down?.textContent).toContain("unreachable since");
  });

  it("shows what an alarm led to, on its list and marked", async () => {
    answers["/api/v1/controllers"] = [controller({ id: 7, name: "Other" }), controller()];
    const meant = item({ id: 40, kind: "tunnel", name: "tunnel 40" });
    answers["/api/v1/controller-items/{item}"] = meant;
    answers["/api/v1/controllers/{controller}/items"] = [item({ id: 39, kind: "tunnel", name: "tunnel 39" }), meant];
    shown("/setup/controllers?item=40");
    const region = await told();
    const row = (await within(region).findByText("tunnel 40")).closest("li");
    expect(row?.getAttribute("aria-current")).toBe("true");
    expect(get).toHaveBeenCalledWith(
      "/api/v1/controllers/{controller}/items",
      expect.objectContaining({ params: { path: { controller: 1 }, query: { kind: "tunnel" } } }),
    );
  });

  it("is put into words by its kind", () => {
    expect(factWords(item({ words: "no address" }))).toBe("10.0.0.1 · Hexwater · no address");
    const policy = { about: "voice", transport: "B", changed_by: "ines" };
    expect(factWords(item({ kind: "policy", facts: policy }))).toBe("for voice · takes B · changed by ines");
    expect(factWords(item({ kind: "alarm", facts: {} }))).toBe("the controller itself");
    expect(factWords(item({ kind: "alarm", about: "tunnel one", facts: {} }))).toBe("tunnel one");
    const tunnel = { device_name: "hex-wan-1", facts: { interface: "wan1" } };
    expect(factWords(item({ kind: "tunnel", ...tunnel }))).toBe("hex-wan-1 wan1");
  });
});

describe("who may do what", () => {
  it("engineers add members and ask, but set nothing up", async () => {
    role = "engineer";
    shown();
    const region = await told();
    await within(region).findByRole("button", { name: "Add hex-wan-1" });
    expect(within(region).getByRole("button", { name: "Ask now" })).toBeTruthy();
    expect(within(region).queryByRole("button", { name: "Change" })).toBeNull();
    for (const name of ["New controller", "New profile", "County overlay"])
      expect(screen.queryByRole("button", { name })).toBeNull();
  });
  it("viewers see what is told", async () => {
    role = "viewer";
    shown();
    const region = await told();
    await within(region).findByText("hex-wan-1");
    expect(within(region).queryAllByRole("button", { name: /Add|Ask/ })).toEqual([]);
  });
});

describe("setting a controller up", () => {
  it("asks for what its profile signs in with, and keeps a secret that is left empty", async () => {
    shown();
    fireEvent.click(within(await told()).getByRole("button", { name: "Change" }));
    const form = await screen.findByRole("form", { name: "Controller" });
    expect((await within(form).findByLabelText("Token")).getAttribute("placeholder")).toBe("stays as it is");
    fireEvent.change(within(form).getByLabelText(/Asked every/), { target: { value: "120" } });
    fireEvent.click(within(form).getByLabelText("Members become devices by themselves"));
    fireEvent.click(within(form).getByRole("button", { name: "Save" }));
    await waitFor(() => expect(put).toHaveBeenCalled());
    expect(put.mock.calls[0]?.[1].body).toMatchObject({ every_s: 120, adds: true, secret: null, credential: 4 });
  });

  it("says what was refused, and keeps what was typed", async () => {
    post.mockRejectedValue(new Error("“10.0.0.0/99” is not a range."));
    shown();
    await told();
    fireEvent.click(screen.getByRole("button", { name: "New controller" }));
    const form = await screen.findByRole("form", { name: "Controller" });
    fireEvent.change(within(form).getByLabelText("Name"), { target: { value: "Second" } });
    fireEvent.change(await within(form).findByLabelText("Token"), { target: { value: "t0p" } });
    fireEvent.click(within(form).getByRole("button", { name: "Save" }));
    await waitFor(() => expect(within(form).getByRole("alert").textContent).toContain("is not a range"));
    expect(post.mock.calls[0]?.[1].body).toMatchObject({ name: "Second", secret: { token: "t0p" } });
    expect((within(form).getByLabelText("Name") as HTMLInputElement).value).toBe("Second");
  });

  it("begins with a profile where there is none", async () => {
    answers["/api/v1/controllers"] = [];
    answers["/api/v1/controller-profiles"] = [];
    shown();
    expect(await screen.findByText(/Describe its make in a profile first/)).toBeTruthy();
    expect(screen.queryByRole("button", { name: "New controller" })).toBeNull();
  });
});

describe("a profile", () => {
  const opened = async () => {
    shown();
    fireEvent.click(await screen.findByRole("button", { name: "County overlay" }));
    return screen.findByRole("form", { name: "Profile of controllers" });
  };

  it("is tried as it stands in the form, with what is stored for a controller that is known", async () => {
    lines.mockImplementation(async (_path, _body, onLine) => {
      onLine({ list: "device", rows: [{ id: "e1", name: "hex-wan-1", address: "" }], count: 24, wrong: [] } as never);
      onLine({ list: "alarm", rows: [], count: 0, wrong: ["it answers /api/events with status 503"] } as never);
    });
    const form = await opened();
    fireEvent.change(within(form).getAllByLabelText("Rows JSONPath")[0] as HTMLElement, {
      target: { value: "$.data[*]" },
    });
    const trial = within(form).getByRole("region", { name: "Trial" });
    fireEvent.click(within(trial).getByRole("button", { name: "Try" }));
    await within(trial).findByText("24 devices");
    expect(trial.textContent).toContain("id e1 · name hex-wan-1");
    expect(trial.textContent).toContain("it answers /api/events with status 503");
    const [path, body] = lines.mock.calls[0] ?? [];
    expect(path).toBe("controllers/try");
    expect(body).toMatchObject({ base: "https://192.0.2.7", controller: 1, secret: null });
    expect((body as { lists: Record<string, { rows: string }> }).lists.device?.rows).toBe("$.data[*]");
  });

  it("is tried elsewhere with what is typed in alone", async () => {
    const form = await opened();
    const trial = within(form).getByRole("region", { name: "Trial" });
    fireEvent.change(within(trial).getByLabelText(/^At/), { target: { value: "https://198.51.100.1" } });
    fireEvent.change(within(trial).getByLabelText("Token"), { target: { value: "other" } });
    lines.mockRejectedValue(new Error("That was asked too often."));
    fireEvent.click(within(trial).getByRole("button", { name: "Try" }));
    await waitFor(() => expect(within(trial).getByRole("alert").textContent).toBe("That was asked too often."));
    expect(lines.mock.calls[0]?.[1]).toMatchObject({ controller: null, authority: "", secret: { token: "other" } });
  });

  it("has the lists that it asks for, and what its way to sign in needs", async () => {
    const form = await opened();
    expect(within(form).queryByRole("group", { name: /tunnels/ })).toBeNull();
    fireEvent.click(within(form).getByRole("button", { name: "Ask for tunnels too" }));
    fireEvent.click(within(form).getByRole("button", { name: "do not ask for them" }));
    expect(within(form).queryByRole("group", { name: /tunnels/ })).toBeNull();
    fireEvent.click(within(form).getByRole("button", { name: "Ask for tunnels too" }));
    const tunnels = within(form).getByRole("group", { name: /tunnels/ });
    fireEvent.change(within(tunnels).getByLabelText("name"), { target: { value: "$.label" } });
    fireEvent.change(within(tunnels).getByLabelText(/States that are well/), { target: { value: "open, idle" } });
    fireEvent.change(within(form).getByLabelText("One signs in by"), { target: { value: "session" } });
    fireEvent.change(within(form).getByLabelText(/Where one signs in/), { target: { value: "/api/session" } });
    fireEvent.submit(form);
    await waitFor(() => expect(put).toHaveBeenCalled());
    expect(put.mock.calls[0]?.[1].body).toMatchObject({
      sign_in: { way: "session", path: "/api/session" },
      lists: { tunnel: { fields: { name: "$.label" }, up: ["open", "idle"] } },
    });
  });
});
