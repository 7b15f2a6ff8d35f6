import { cleanup, screen, within } from "@testing-library/react";
import { afterEach, describe, expect, it, vi } from "vitest";
import { readLines } from "../../api/lines";
import { ruleOut } from "../../testing/alarms";
import { show } from "../../testing/show";
import { Rehearsal } from "./Rehearsal";
import { draftOf, type Vocabulary } from "./ruleDraft";
import { Similar } from "./Similar";

vi.mock("../../api/lines", () => ({ readLines: vi.fn() }));
vi.mock("../../app/session", () => ({ useMay: () => () => false }));
vi.mock("./RehearsalChart", () => ({ RehearsalChart: () => null }));
vi.mock("./RehearsalCalendar", () => ({ RehearsalCalendar: () => null }));
const lines = vi.mocked(readLines);

afterEach(cleanup);

const words = {
  measures: [{ name: "load", words: "Utilisation", unit: "%", subject: "interface" }],
  statistics: [{ name: "value", words: "value", unit: "{unit}", has_window: false }],
  references: [],
} as unknown as Vocabulary;
const rule = ruleOut({
  statistic: "value",
  window_s: 0,
  scope: "",
  without: [],
  hours: "",
  zone: "UTC",
  hold_s: 0,
  times: 1,
  of: 1,
  revision: 4,
});
const done = {
  start: 0,
  end: 604_800,
  subjects: 20_000,
  step_s: 300,
  took_ms: 14_000,
  alarms: 0,
  a_day: 0,
  at_night: 0,
  active: 0,
  longest_s: 0,
  by_severity: {},
  messages: {},
  noisiest: [],
  listed: [],
};

describe("a rehearsal", () => {
  it("says how far it is, then what it comes to, with the exceptions of its rule", async () => {
    const waiting: (() => void)[] = [];
    lines.mockImplementation(async (_path, _body, onLine) => {
      onLine({ done: 4_000, subjects: 20_000 });
      await new Promise<void>((resolve) => waiting.push(resolve));
      onLine({ rehearsal: done });
    });
    show(<Rehearsal draft={draftOf(words, rule)} stored={rule} words={words} />);
    expect(await screen.findByText(/4,000 of 20,000 ports/)).toBeTruthy();
    for (const finish of waiting) finish();
    expect(await screen.findByText("It would have raised nothing in this time.")).toBeTruthy();
    expect(screen.queryByRole("progressbar")).toBeNull();
    expect(lines.mock.calls.every(([, body]) => (body as { rule_id: number }).rule_id === rule.id)).toBe(true);
  });

  it("that ends without a result says so", async () => {
    lines.mockResolvedValue();
    show(<Rehearsal draft={draftOf(words, rule)} stored={undefined} words={words} />);
    expect(await screen.findByText(/was broken off/)).toBeTruthy();
  });
});

describe("similar ones before", () => {
  const episode = {
    alarm_id: 7,
    label: "hex-wan-7",
    severity: 4,
    raised_at: "2026-11-20T10:00:00Z",
    cleared_at: "2026-11-20T10:20:00Z",
    by: "anna",
    comment: "power cut",
  };

  it("are told with how long they lasted and what was said; only others lead elsewhere", () => {
    show(<Similar episodes={[{ ...episode, alarm_id: 3, comment: null, by: null }, episode]} alarm={3} />);
    const [own, other] = screen.getAllByRole("listitem");
    expect(own?.textContent).toContain("here");
    expect(within(own as HTMLElement).queryByRole("link")).toBeNull();
    expect(other?.textContent).toMatch(/20 min.*hex-wan-7: power cut by anna/);
    expect(
      within(other as HTMLElement)
        .getByRole("link")
        .getAttribute("href"),
    ).toBe("/alarms/7");
  });

  it("are no heading without any", () => {
    show(<Similar episodes={[]} alarm={3} />);
    expect(screen.queryByText("Similar ones before")).toBeNull();
  });
});
