import { cleanup, fireEvent, screen, waitFor } from "@testing-library/react";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { client } from "../../api/client";
import { ruleOut } from "../../testing/alarms";
import { show } from "../../testing/show";
import { FormulaField } from "./FormulaField";
import { ProposeLimits } from "./ProposeLimits";
import { draftOf, type Vocabulary } from "./ruleDraft";
import { ScopeMatch } from "./ScopeMatch";

vi.mock("../../api/client", async (original) => ({
  ...(await original<typeof import("../../api/client")>()),
  client: { POST: vi.fn() },
  got: (answer: Promise<unknown>) => answer,
}));
const post = vi.mocked(client.POST as unknown as (path: string, options: { body: unknown }) => Promise<unknown>);

beforeEach(() => void post.mockReset());
afterEach(cleanup);

const words = {
  measures: [
    { name: "load", words: "Utilisation", unit: "%", subject: "interface" },
    { name: "in", words: "Rate in", unit: "bit/s", subject: "interface" },
    { name: "in_errors", words: "Errors in", unit: "/s", subject: "interface" },
    { name: "processor", words: "Processor", unit: "%", subject: "component" },
  ],
  statistics: [{ name: "value", words: "value", unit: "{unit}", has_window: false }],
  references: [{ name: "learned", words: "its usual range", unit: "widths" }],
} as unknown as Vocabulary;

const draft = (more: object = {}) =>
  draftOf(words, {
    ...ruleOut(),
    statistic: "value",
    window_s: 0,
    scope: "",
    enabled: true,
    without: [],
    hours: "",
    zone: "UTC",
    hold_s: 0,
    times: 1,
    of: 1,
    raise_text: "",
    clear_text: "",
    instructions: "",
    plan_id: null,
    ...more,
  } as Parameters<typeof draftOf>[1]);

describe("limits that are proposed", () => {
  const level = (severity: number) => ({ severity, limit: 1, clear: 0.5 });
  const learned = draft({ reference: "learned", levels: [level(5), level(3), level(4)] });

  it("are asked for each severity, fewer alarms the worse, and are higher the worse", async () => {
    post.mockResolvedValue({ limits: [6, 6, 20] });
    const change = vi.fn();
    show(<ProposeLimits draft={learned} words={words} change={change} />);
    fireEvent.click(screen.getByText("Propose limits"));
    await waitFor(() => expect(change).toHaveBeenCalledOnce());
    const [, { body }] = post.mock.calls[0] as [string, { body: { a_week: number[]; levels: { severity: number }[] } }];
    expect(body.levels.map(({ severity }) => severity)).toEqual([3, 4, 5]);
    expect(body.a_week).toEqual([0.5, 0.25, 0.1]);
    expect(change.mock.calls[0]?.[0].levels).toMatchObject([
      { severity: 3, limit: "6", clear: "3.6" },
      { severity: 4, limit: "6.6", clear: "4" },
      { severity: 5, limit: "20", clear: "12" },
    ]);
  });

  it("lie below what is normal for a rule that looks below", async () => {
    post.mockResolvedValue({ limits: [6] });
    const change = vi.fn();
    const below = draft({ reference: "learned", direction: "below", levels: [level(3)] });
    show(<ProposeLimits draft={below} words={words} change={change} />);
    fireEvent.click(screen.getByText("Propose limits"));
    await waitFor(() => expect(change.mock.calls[0]?.[0].levels).toMatchObject([{ limit: "-6", clear: "-3.6" }]));
  });

  it("stay as they were where nothing is known, which is said", async () => {
    post.mockResolvedValue({ limits: [null, null, null] });
    const change = vi.fn();
    show(<ProposeLimits draft={learned} words={words} change={change} />);
    fireEvent.click(screen.getByText("Propose limits"));
    await screen.findByText(/two weeks of readings are needed/);
    const [changed] = change.mock.calls[0] as [{ levels: { limit: string }[] }];
    expect(changed.levels.map(({ limit }) => limit)).toEqual(["1", "1", "1"]);
  });
});

describe("a formula", () => {
  const typing = (measure: string) => {
    const change = vi.fn();
    show(<FormulaField draft={draft({ measure })} words={words} change={change} />);
    return change;
  };

  it("says what it gives now, and completes the name that is being typed", async () => {
    post.mockResolvedValue({ label: "hex-wan-1 Transport A", value: 12.5, unit: "%", subject: "interface" });
    const change = typing("= 100 * in");
    await screen.findByText("hex-wan-1 Transport A now: 12.5 %");
    fireEvent.click(screen.getByText("in_errors"));
    expect(change).toHaveBeenCalledWith({ measure: "= 100 * in_errors" });
    expect(screen.queryByText("load")).toBeNull();
  });

  it("offers measures of the same kind of subject after an operator", async () => {
    post.mockResolvedValue({ label: "", value: null, unit: "bit/s", subject: "interface" });
    typing("= in + ");
    await screen.findByText("bit/s");
    expect(screen.getByText("load")).toBeTruthy();
    expect(screen.queryByText("processor")).toBeNull();
  });

  it("says what is wrong with it, and passes on what is typed", async () => {
    post.mockRejectedValue(new Error("bit/s and % cannot be added."));
    const change = typing("= in + load");
    await screen.findByText("bit/s and % cannot be added.");
    fireEvent.change(screen.getByLabelText("Formula"), { target: { value: "in" } });
    expect(change).toHaveBeenCalledWith({ measure: "= in" });
  });
});

describe("what a condition holds for", () => {
  it("is counted, with the first of them", async () => {
    post.mockResolvedValue({ subjects: 1204, examples: [{ device: "hex-wan-1", label: "Transport A" }] });
    show(<ScopeMatch kind="interface" scope="role is wan" fields={[]} />);
    await screen.findByText("1,204 ports");
    expect(screen.getByText("hex-wan-1 Transport A and more")).toBeTruthy();
  });

  it("may be nothing, which stands out, or not understood", async () => {
    post.mockResolvedValue({ subjects: 0, examples: [] });
    show(<ScopeMatch kind="device" scope={'site is "Nowhere"'} fields={[]} />);
    expect((await screen.findByText("no devices")).className).toContain("text-critical");
    cleanup();
    post.mockRejectedValue(new Error("There is nothing called colour to ask for."));
    show(<ScopeMatch kind="device" scope="colour is red" fields={[]} />);
    await screen.findByText("There is nothing called colour to ask for.");
  });
});
