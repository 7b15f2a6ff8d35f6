import { cleanup, fireEvent, screen, waitFor } from "@testing-library/react";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { client, type Schemas } from "../../api/client";
import { alarmRow, ruleOut } from "../../testing/alarms";
import { show } from "../../testing/show";
import { AlarmsHeading } from "./AlarmsHeading";
import { Called } from "./Called";
import { Causality } from "./Causality";
import { MakeException, RuleExceptions } from "./RuleExceptions";
import { RuleReport } from "./RuleReport";

const role = { may: "operator" };
vi.mock("../../app/session", () => ({ useMay: () => (wanted: string) => wanted === role.may }));
vi.mock("../../api/client", async (original) => ({
  ...(await original<typeof import("../../api/client")>()),
  client: { GET: vi.fn(), POST: vi.fn(), PUT: vi.fn(), DELETE: vi.fn() },
  got: (answer: Promise<unknown>) => answer,
}));

type Call = (path: string, options: Record<string, unknown>) => Promise<unknown>;
const [get, post, put, remove] = [client.GET, client.POST, client.PUT, client.DELETE].map((each) =>
  vi.mocked(each as unknown as Call),
) as [
  ReturnType<typeof vi.mocked<Call>>,
  ReturnType<typeof vi.mocked<Call>>,
  ReturnType<typeof vi.mocked<Call>>,
  ReturnType<typeof vi.mocked<Call>>,
];

beforeEach(() => {
  role.may = "operator";
  for (const each of [get, post, put, remove]) each.mockReset().mockResolvedValue({});
});
afterEach(cleanup);

describe("what an alarm follows from", () => {
  const under = alarmRow(2, { cause_id: 1, cause_reason: "It is reached by way of hex-wan-1, which does not answer" });

  it("is said with its reason, and overruled by whoever knows better", async () => {
    show(<Causality row={under} />);
    expect(screen.getByText("another alarm").getAttribute("href")).toBe("/alarms/1");
    expect(document.body.textContent).toContain("by way of hex-wan-1");
    fireEvent.click(screen.getByText("It does not"));
    await waitFor(() =>
      expect(post).toHaveBeenCalledWith("/api/v1/alarms/{alarm}/overrule", { params: { path: { alarm: 2 } } }),
    );
  });

  it("says why it could not be overruled", async () => {
    post.mockRejectedValue(new Error("This alarm stands by itself already; load it again."));
    show(<Causality row={under} />);
    fireEvent.click(screen.getByText("It does not"));
    await screen.findByText(/stands by itself already/);
  });

  it("is not overruled by viewers, nor in the past", () => {
    role.may = "viewer";
    show(<Causality row={under} />);
    expect(screen.queryByText("It does not")).toBeNull();
    cleanup();
    role.may = "operator";
    show(<Causality row={under} />, "/alarms/2?from=2026-11-20T10:00:00Z&to=2026-11-20T12:00:00Z");
    expect(screen.queryByText("It does not")).toBeNull();
  });

  it("and what follows from it is listed, each with its reason", async () => {
    get.mockResolvedValue({ rows: [under], total: 1, next: null });
    show(<Causality row={alarmRow(1, { consequences: 1, raised_lately: 6 })} />);
    await screen.findByText("hex-wan-2");
    expect(screen.getByText("1 consequence, for which nobody is called")).toBeTruthy();
    expect(document.body.textContent).toContain("Raised 6 times within an hour: it flaps");
    expect(document.body.textContent).toContain("by way of hex-wan-1");
  });

  it("is nothing for most of them", () => {
    show(<Causality row={alarmRow(1)} />);
    expect(document.body.textContent).toBe("");
  });
});

describe("who was called", () => {
  const told = (more: Partial<Schemas["NotificationOut"]>) =>
    ({
      at: "2026-11-27T10:00:00Z",
      severity: 4,
      contact: "Anna",
      target: "anna@oskelund.example",
      due_at: "2026-11-27T10:00:00Z",
      sent_at: null,
      state: "pending",
      attempts: 0,
      answer: "",
      ...more,
    }) as Schemas["NotificationOut"];
  const alarm = (notifications: Schemas["NotificationOut"][], more: Partial<Schemas["AlarmOut"]> = {}) =>
    ({ row: alarmRow(1), notifications, call: null, ...more }) as Schemas["AlarmOut"];

  it.each([
    [{ state: "sent" as const, sent_at: "2026-11-27T10:00:02Z" }, "sent"],
    [{ state: "failed" as const, answer: "refused" }, "not sent"],
    [{ attempts: 2 }, "tried 2 times"],
    [{}, "waiting to be sent"],
    [{ due_at: "2999-01-01T00:00:00Z" }, "held back: quiet hours"],
  ])("says what became of %o", (more, words) => {
    show(<Called alarm={alarm([told(more)])} />);
    expect(screen.getByText(words)).toBeTruthy();
  });

  it("says why it was nobody, and who is next", () => {
    show(<Called alarm={alarm([])} />);
    expect(screen.getByText(/the rule had no call plan/)).toBeTruthy();
    cleanup();
    const call = { plan_id: 1, plan: "Day and night", next_at: "2026-11-27T10:15:00Z" };
    show(<Called alarm={alarm([], { row: alarmRow(1, { plan: "Day and night" }), call })} />);
    expect(screen.getByText(/the call plan reached nobody/)).toBeTruthy();
    expect(screen.getByText(/Next call by Day and night at/)).toBeTruthy();
  });
});

describe("exceptions of a rule", () => {
  const exceptions = [
    { subject: 7, label: "hex-wan-1 Transport A", levels: [], reason: "backup line", by: "anna", at: "" },
    {
      subject: 8,
      label: "hex-wan-1 Transport B",
      levels: [{ severity: 4, limit: 95, clear: 90, low: null, low_clear: null }],
      reason: "",
      by: "bert",
      at: "",
    },
  ];

  it("say what holds instead, and are ended by engineers", async () => {
    role.may = "engineer";
    show(<RuleExceptions rule={ruleOut({ exceptions })} />);
    expect(screen.getByText("exempt: backup line (anna)")).toBeTruthy();
    expect(screen.getByText("major 95 % (bert)")).toBeTruthy();
    fireEvent.click(screen.getAllByText("End")[1] as HTMLElement);
    await waitFor(() =>
      expect(remove).toHaveBeenCalledWith("/api/v1/rules/{rule}/exceptions/{subject}", {
        params: { path: { rule: 3, subject: 8 } },
      }),
    );
    cleanup();
    role.may = "operator";
    show(<RuleExceptions rule={ruleOut({ exceptions })} />);
    expect(screen.queryByText("End")).toBeNull();
  });

  it("are made with limits a quarter higher, or exempt", async () => {
    show(<MakeException rule={ruleOut()} subject={9} label="hex-wan-1 LAN" />);
    fireEvent.click(screen.getByText("Raise its limits by a quarter"));
    fireEvent.click(screen.getByText("Exempt hex-wan-1 LAN"));
    await waitFor(() => expect(put).toHaveBeenCalledTimes(2));
    const bodies = put.mock.calls.map(([, { body }]) => body as { levels: { limit: number; clear: number }[] });
    expect(bodies[0]?.levels).toMatchObject([{ limit: 100, clear: 75 }]);
    expect(bodies[1]?.levels).toEqual([]);
  });

  it("have no quarter where limits are not upper ones, and are not made twice", () => {
    show(<MakeException rule={ruleOut({ direction: "below" })} subject={9} label="LAN" />);
    expect(screen.queryByText(/by a quarter/)).toBeNull();
    cleanup();
    show(<MakeException rule={ruleOut({ exceptions })} subject={7} label="Transport A" />);
    expect(screen.getByText(/is an exception of the stored rule/)).toBeTruthy();
    expect(screen.queryByRole("button")).toBeNull();
  });
});

describe("what a rule did", () => {
  it("is told in figures and proposals", async () => {
    get.mockResolvedValue({
      alarms: 1200,
      of_use: 3,
      messages: 900,
      median_s: 90,
      noisiest: [{ alarm: 5, label: "hex-wan-1 Transport A", alarms: 700, of_use: 1 }],
      proposals: ["hex-wan-1 Transport A makes 700 of 1,200 alarms: exempt it, or give it limits of its own."],
    });
    show(<RuleReport rule={3} />);
    await screen.findByText("1,200");
    expect(screen.getByText("hex-wan-1 Transport A").getAttribute("href")).toBe("/alarms/5");
    expect(screen.getByText(/exempt it/)).toBeTruthy();
    expect(screen.getByText("1 of use")).toBeTruthy();
  });

  it("is nothing for one that raised nothing", async () => {
    get.mockResolvedValue({ alarms: 0, of_use: 0, messages: 0, median_s: 0, noisiest: [], proposals: [] });
    show(<RuleReport rule={3} />);
    await screen.findByText("It raised nothing.");
  });
});

describe("the heading of the lists", () => {
  it("marks the one that is shown and keeps the time", () => {
    show(<AlarmsHeading show="all" active="Active at 12:00" />, "/alarms?show=all&span=1h");
    const links = screen.getAllByRole("link");
    expect(links.map((link) => link.textContent)).toEqual(["Active at 12:00", "Shelved", "History", "Maintenance"]);
    expect(links.filter((link) => link.className === "marked").map((link) => link.textContent)).toEqual(["History"]);
    expect(links[1]?.getAttribute("href")).toContain("span=1h");
    expect(links[0]?.getAttribute("href")).not.toContain("show");
  });
});
