import { act, cleanup, fireEvent, screen } from "@testing-library/react";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { worstQuery } from "../api/queries";
import { alarmRow } from "../testing/alarms";
import { show } from "../testing/show";
import { Announcements } from "./Announcements";
import { setSound } from "./sound";

vi.mock("../api/client", async (original) => ({
  ...(await original<typeof import("../api/client")>()),
  client: { GET: () => new Promise(() => undefined) },
}));

const tones: number[] = [];
class Tones {
  currentTime = 0;
  destination = {};
  createGain = () => ({ gain: { value: 0 }, connect: () => undefined });
  createOscillator = () => ({
    frequency: {
      set value(hertz: number) {
        tones.push(hertz);
      },
    },
    connect: () => undefined,
    start: () => undefined,
    stop: () => undefined,
  });
  close = () => Promise.resolve();
}

beforeEach(() => {
  vi.useFakeTimers({ shouldAdvanceTime: true });
  vi.stubGlobal("AudioContext", Tones);
});
afterEach(() => {
  setSound(false);
  tones.length = 0;
  cleanup();
  vi.unstubAllGlobals();
  vi.useRealTimers();
});

/** Shows announcements and tells them of alarms, one list after the other. */
function announcing() {
  const queries = show(<Announcements />);
  return (...rows: ReturnType<typeof alarmRow>[]) =>
    act(async () => {
      queries.setQueryData(worstQuery.queryKey, { rows, total: rows.length, next: null });
      await vi.advanceTimersByTimeAsync(10);
    });
}

describe("announcements", () => {
  it("say nothing of what was there before, and lead to what is new", async () => {
    const tell = announcing();
    await tell(alarmRow(1));
    expect(screen.getByRole("status").textContent).toBe("");
    await tell(alarmRow(1), alarmRow(2));
    expect(screen.getByText("1 new alarm")).toBeTruthy();
    const link = screen.getByRole("link");
    expect(link.getAttribute("href")).toBe("/alarms/2");
    fireEvent.click(link);
    expect(screen.queryByRole("link")).toBeNull();
  });

  it("name three of many, and go by themselves or when they are dismissed", async () => {
    const tell = announcing();
    await tell();
    await tell(...[1, 2, 3, 4, 5].map((id) => alarmRow(id)));
    expect(screen.getByText("5 new alarms")).toBeTruthy();
    expect(screen.getAllByRole("link")).toHaveLength(3);
    await act(async () => void (await vi.advanceTimersByTimeAsync(21_000)));
    expect(screen.queryByText("5 new alarms")).toBeNull();
    await tell(alarmRow(9));
    fireEvent.click(screen.getByText("Dismiss"));
    expect(screen.getByRole("status").textContent).toBe("");
  });

  it("are heard only if somebody wants that, the higher the worse", async () => {
    const tell = announcing();
    await tell();
    await tell(alarmRow(1));
    expect(tones).toEqual([]);
    setSound(true);
    expect(localStorage.getItem("lumtar-sound")).toBe("on");
    tones.length = 0;
    await tell(alarmRow(1), alarmRow(2, { severity: 3 }));
    const milder = [...tones];
    tones.length = 0;
    await tell(alarmRow(3, { severity: 5 }), alarmRow(1), alarmRow(2, { severity: 3 }));
    expect(milder).toHaveLength(2);
    expect(tones[0]).toBeGreaterThan(milder[0] as number);
  });

  it("do without sound where a browser has none", async () => {
    const tell = announcing();
    await tell();
    vi.stubGlobal("AudioContext", undefined);
    setSound(true);
    await tell(alarmRow(1));
    expect(screen.getByText("1 new alarm")).toBeTruthy();
  });
});
