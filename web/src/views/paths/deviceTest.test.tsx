import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { cleanup, fireEvent, render, screen, waitFor } from "@testing-library/react";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { client } from "../../api/client";
import { DeviceTest } from "./DeviceTest";
import { SmallCourse } from "./SmallCourse";

vi.mock("../../api/client", async (real) => ({
  ...(await real<typeof import("../../api/client")>()),
  client: { GET: vi.fn() },
  got: (answer: Promise<unknown>) => answer,
}));
const get = vi.mocked(client.GET as unknown as (path: string) => Promise<unknown>);
let tests: unknown;

beforeEach(() => {
  tests = {
    tests: [
      { owner: "network", name: "voice", target: "192.0.2.7", remembers: 50 },
      { owner: "network", name: "by name", target: "far.example", remembers: 50 },
    ],
    fault: "",
  };
  get.mockImplementation(async (path) =>
    path === "/api/v1/devices" ? { rows: [{ id: 7, name: "dep-wan-1" }], total: 1, next: null } : tests,
  );
});
afterEach(cleanup);

function shown(asked = "", device: number | null = 7) {
  const [onDevice, onTest] = [vi.fn(), vi.fn()];
  render(
    <QueryClientProvider client={new QueryClient()}>
      <DeviceTest device={device} asked={asked} onDevice={onDevice} onTest={onTest} />
    </QueryClientProvider>,
  );
  return { onDevice, onTest };
}

describe("a device's own test", () => {
  it("is one of those that the device has, with the address that it asks", async () => {
    const { onTest, onDevice } = shown();
    await screen.findByText("network: voice to 192.0.2.7");
    fireEvent.change(screen.getByLabelText(/^Test/), { target: { value: "network/voice" } });
    expect(onTest).toHaveBeenCalledWith("network/voice", "192.0.2.7");
    // A name is none of a path's addresses.
    fireEvent.change(screen.getByLabelText(/^Test/), { target: { value: "network/by name" } });
    expect(onTest).toHaveBeenLastCalledWith("network/by name", "");
    await screen.findByText("dep-wan-1");
    fireEvent.change(screen.getByLabelText(/^Device/), { target: { value: "" } });
    expect(onDevice).toHaveBeenCalledWith(null);
  });

  it("stays chosen while the device does not tell of it", async () => {
    tests = { tests: [], fault: "no answer on UDP 161 in 2 tries" };
    shown("network/voice");
    await waitFor(() => expect(screen.getByRole("alert").textContent).toBe("no answer on UDP 161 in 2 tries"));
    expect((screen.getByLabelText(/^Test/) as HTMLSelectElement).value).toBe("network/voice");
    expect(screen.queryByText(/It has no tests/)).toBeNull();
  });

  it("is missed where there is none, and not asked for before a device is chosen", async () => {
    tests = { tests: [], fault: "" };
    shown();
    await screen.findByText(/It has no tests of DISMAN-PING-MIB/);
    cleanup();
    get.mockClear();
    shown("", null);
    await screen.findByText("dep-wan-1");
    expect(get.mock.calls.every(([path]) => path === "/api/v1/devices")).toBe(true);
  });
});

describe("a path over time as small as a cell", () => {
  const bars = (element: Element) => [...element.querySelectorAll("rect")];
  it("stands out beyond the first level, and leaves out what is not known", () => {
    const { container } = render(<SmallCourse values={[10, null, 200]} most={200} limit={150} isLessWorse={false} />);
    expect(bars(container).map((bar) => bar.getAttribute("fill"))).toEqual(["var(--ink2)", "var(--critical)"]);
    const [low, high] = bars(container).map((bar) => Number(bar.getAttribute("height")));
    expect((high ?? 0) / (low ?? 1)).toBeGreaterThan(8);
    expect(container.querySelectorAll("line")).toHaveLength(1);
  });
  it("stands out beneath it where less is worse, and has no line for a level that is out of sight", () => {
    const { container } = render(<SmallCourse values={[4.2, 2.1]} most={4.2} limit={3.5} isLessWorse />);
    expect(bars(container).map((bar) => bar.getAttribute("fill"))).toEqual(["var(--ink2)", "var(--critical)"]);
    cleanup();
    const beyond = render(<SmallCourse values={[10, 12]} most={20} limit={150} isLessWorse={false} />);
    expect(beyond.container.querySelectorAll("line")).toHaveLength(0);
  });
});
