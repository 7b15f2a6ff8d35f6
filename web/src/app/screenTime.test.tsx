import { act, renderHook } from "@testing-library/react";
import type { ReactNode } from "react";
import { MemoryRouter, useLocation } from "react-router";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { useScreenTime, useSetScreenTime, useTimeSearch } from "./screenTime";

const NOW = new Date("2026-11-23T12:00:30Z");

const at =
  (path: string) =>
  ({ children }: { children: ReactNode }) => <MemoryRouter initialEntries={[path]}>{children}</MemoryRouter>;

function useEverything() {
  return {
    time: useScreenTime(),
    set: useSetScreenTime(),
    search: useTimeSearch(),
    location: useLocation(),
  };
}

describe("the screen's time", () => {
  beforeEach(() => {
    vi.useFakeTimers();
    vi.setSystemTime(NOW);
  });
  afterEach(() => vi.useRealTimers());

  it("follows now over a day unless told otherwise", () => {
    const { result } = renderHook(useEverything, { wrapper: at("/") });
    expect(result.current.time.following).toBe(true);
    expect(result.current.time.at).toBeNull();
    expect(result.current.time.range).toEqual({ start: "2026-11-22T12:01:00.000Z", end: "2026-11-23T12:01:00.000Z" });
  });

  it("moves on with the minutes, not with every look", () => {
    const { result } = renderHook(useEverything, { wrapper: at("/?span=1h") });
    const before = result.current.time;
    act(() => void vi.advanceTimersByTime(10_000));
    expect(result.current.time).toBe(before);
    act(() => void vi.advanceTimersByTime(60_000));
    expect(result.current.time.end.getTime() - before.end.getTime()).toBe(60_000);
  });

  it("takes a past range from the address", () => {
    const { result } = renderHook(useEverything, {
      wrapper: at("/fleet?from=2026-11-20T10:00:00Z&to=2026-11-20T12:00:00Z"),
    });
    expect(result.current.time.following).toBe(false);
    expect(result.current.time.at).toBe("2026-11-20T12:00:00.000Z");
  });

  it.each([
    "from=yesterday&to=today",
    "from=2026-11-20T12:00:00Z&to=2026-11-20T10:00:00Z",
    "from=2026-11-20T12:00:00Z",
  ])("follows now when the address makes no sense: %s", (search) => {
    const { result } = renderHook(useEverything, { wrapper: at(`/?${search}`) });
    expect(result.current.time.following).toBe(true);
  });

  it("shows a range and never one that ends in the future", () => {
    const { result } = renderHook(useEverything, { wrapper: at("/?span=7d&site=Hexwater") });
    act(() => result.current.set.show(new Date("2026-11-23T10:00:00Z"), new Date("2026-11-23T23:00:00Z")));
    const search = new URLSearchParams(result.current.location.search);
    expect(search.get("to")).toBe(NOW.toISOString());
    expect(search.get("site")).toBe("Hexwater");
    expect(search.get("span")).toBeNull();
    act(() => result.current.set.follow());
    expect(result.current.location.search).toBe("?site=Hexwater");
  });

  it("keeps the time in every link and nothing else", () => {
    const { result } = renderHook(useEverything, { wrapper: at("/fleet?span=7d&words=x") });
    expect(result.current.search()).toBe("?span=7d");
    expect(result.current.search({ site: "Hexwater", list: undefined })).toBe("?span=7d&site=Hexwater");
  });
});
