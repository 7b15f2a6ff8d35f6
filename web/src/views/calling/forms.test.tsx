import { cleanup, fireEvent, screen, waitFor, within } from "@testing-library/react";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { client, type Schemas } from "../../api/client";
import { show } from "../../testing/show";
import { ContactForm } from "./ContactForm";
import { TeamForm } from "./TeamForm";
import { WhoIsCalled } from "./WhoIsCalled";
import { instant } from "./wallClock";

vi.mock("../../api/client", async (original) => ({
  ...(await original<typeof import("../../api/client")>()),
  client: { GET: vi.fn(), POST: vi.fn(), PUT: vi.fn(), DELETE: vi.fn() },
  got: (answer: Promise<unknown>) => answer,
}));

type Call = (path: string, options: { body: Record<string, unknown> }) => Promise<unknown>;
const post = vi.mocked(client.POST as unknown as Call);
const put = vi.mocked(client.PUT as unknown as Call);

beforeEach(() => {
  for (const each of [post, put]) each.mockReset().mockResolvedValue({});
});
afterEach(cleanup);

const field = (label: string | RegExp) => screen.getByLabelText(label) as HTMLInputElement;
const type = (label: string | RegExp, value: string) => fireEvent.change(field(label), { target: { value } });
const secret = (name: string, is_secret = false) => ({ name, words: name, hint: "", is_secret, is_required: true });
const channels = [
  { name: "mail", words: "Mail", for_administrators: false, fields: [secret("address")] },
  { name: "service", words: "Web hook", for_administrators: false, fields: [secret("url", true)] },
] as Schemas["ChannelOut"][];
const contact = (id: number, name: string) =>
  ({
    id,
    name,
    zone: "Europe/London",
    quiet: "",
    quiet_from: 5,
    addresses: [],
    edition: 2,
  }) as unknown as Schemas["ContactOut"];

describe("a contact", () => {
  it("begins with a mail address, and is sent as it was typed", async () => {
    const done = vi.fn();
    show(<ContactForm channels={channels} onDone={done} />);
    type(/^Name/, "Anna");
    type(/^address/, "anna@oskelund.example");
    type(/^Quiet hours/, "22:00-06:00");
    fireEvent.click(screen.getByText("Save"));
    await waitFor(() => expect(done).toHaveBeenCalledOnce());
    expect(post.mock.calls[0]?.[1].body).toMatchObject({
      name: "Anna",
      quiet: "22:00-06:00",
      quiet_from: 5,
      addresses: [{ id: null, channel: "mail", target: { address: "anna@oskelund.example" }, enabled: true }],
    });
  });

  it("does not send a secret again that nobody typed, and forgets fields of another channel", async () => {
    const stored = {
      ...contact(4, "Anna"),
      addresses: [{ id: 9, channel: "service", shown: "json://127.0.0.1/…", target: {}, enabled: true }],
    };
    show(<ContactForm stored={stored} channels={channels} onDone={() => undefined} />);
    fireEvent.click(screen.getByText("Save"));
    await waitFor(() => expect(put).toHaveBeenCalledOnce());
    expect(put.mock.calls[0]?.[1].body).toMatchObject({ edition: 2, addresses: [{ id: 9, target: {} }] });
    fireEvent.click(screen.getByText("Add an address"));
    const added = screen.getAllByRole("group").at(-1) as HTMLElement;
    fireEvent.change(within(added).getByLabelText(/^address/), { target: { value: "x@oskelund.example" } });
    fireEvent.change(within(added).getByLabelText("Channel"), { target: { value: "service" } });
    expect((within(added).getByLabelText(/^url/) as HTMLInputElement).value).toBe("");
  });

  it("stays as it was typed when it is refused", async () => {
    post.mockRejectedValue(new Error("There is a contact of this name already."));
    show(<ContactForm channels={channels} onDone={() => undefined} />);
    type(/^Name/, "Anna");
    type(/^address/, "anna@oskelund.example");
    fireEvent.click(screen.getByText("Save"));
    await screen.findByText("There is a contact of this name already.");
    expect(field(/^Name/).value).toBe("Anna");
  });
});

describe("a team", () => {
  const people = [contact(1, "Anna"), contact(2, "Bert"), contact(3, "Cleo")];

  it("takes turns in the order of its members", async () => {
    show(<TeamForm contacts={people} onDone={() => undefined} />);
    type(/^Name/, "Duty");
    for (const id of ["1", "2"]) type("Add a member", id);
    fireEvent.click(screen.getByLabelText("Earlier turn: Bert"));
    expect(screen.queryByLabelText(/^Days of a turn/)).toBeNull();
    fireEvent.click(screen.getByLabelText(/^In turns/));
    type(/^Days of a turn/, "7");
    type(/^First turn begins/, "2026-11-23T08:00");
    fireEvent.click(screen.getByText("Save"));
    await waitFor(() => expect(post).toHaveBeenCalledOnce());
    expect(post.mock.calls[0]?.[1].body).toMatchObject({
      name: "Duty",
      members: [2, 1],
      turn_days: 7,
      turn_start: instant("2026-11-23T08:00"),
      substitutes: [],
    });
  });

  it("calls all of its members unless it takes turns", async () => {
    show(<TeamForm contacts={people} onDone={() => undefined} />);
    type(/^Name/, "All");
    type("Add a member", "3");
    fireEvent.click(screen.getByText("Save"));
    await waitFor(() => expect(post).toHaveBeenCalledOnce());
    expect(post.mock.calls[0]?.[1].body).toMatchObject({ members: [3], turn_days: 0, turn_start: null });
  });

  it("has somebody stand in for a member, for a time", async () => {
    show(<TeamForm contacts={people} onDone={() => undefined} />);
    type(/^Name/, "Duty");
    type("Add a member", "1");
    fireEvent.click(screen.getByText("Add a substitute"));
    type(/^Stands in/, "3");
    type(/^From/, "2026-12-01T08:00");
    type(/^Until/, "2026-12-08T08:00");
    fireEvent.click(screen.getByText("Save"));
    await waitFor(() => expect(post).toHaveBeenCalledOnce());
    expect(post.mock.calls[0]?.[1].body.substitutes).toEqual([
      { contact: 3, instead_of: 1, start: instant("2026-12-01T08:00"), end: instant("2026-12-08T08:00") },
    ]);
  });
});

describe("who would be called", () => {
  const body = { name: "Night", steps: [], on_worse: true, on_clear: true } as unknown as Schemas["PlanIn"];
  const call = (more: Partial<Schemas["CalledOut"]>) => ({
    after_s: 0,
    step: 1,
    round: 1,
    contacts: [],
    addresses: [],
    ...more,
  });

  it("is listed in the order of time, with why a step reaches nobody", async () => {
    post.mockResolvedValue({
      calls: [
        call({ contacts: ["Anna"], addresses: ["Anna: mail anna@oskelund.example"] }),
        call({ after_s: 900, step: 2, contacts: ["Bert"] }),
        call({ after_s: 1800, step: 3 }),
      ],
    });
    show(<WhoIsCalled body={body} />);
    await screen.findByText("Anna: mail anna@oskelund.example");
    expect(screen.getAllByRole("listitem").map((item) => item.firstElementChild?.textContent)).toEqual([
      "at once",
      "+ 15 min",
      "+ 30 min",
    ]);
    expect(screen.getByText("Bert has no such address")).toBeTruthy();
    expect(screen.getByText(/not for this severity, or nobody is on duty/)).toBeTruthy();
    expect(screen.queryByText(/^Nobody: no step/)).toBeNull();
  });

  it("is nobody, in words; and asked for another severity", async () => {
    post.mockResolvedValue({ calls: [call({})] });
    show(<WhoIsCalled body={body} />);
    await screen.findByText(/^Nobody: no step reaches anybody/);
    expect(post.mock.calls[0]?.[1].body).toMatchObject({ name: "Night", severity: 5 });
    fireEvent.change(screen.getByLabelText("for an alarm that is"), { target: { value: "2" } });
    await waitFor(() => expect(post.mock.calls.at(-1)?.[1].body).toMatchObject({ severity: 2 }));
  });

  it("is not known of a plan that makes no sense, which says why", async () => {
    post.mockRejectedValue(new Error("Step 1 names nobody: choose a contact or a team, or delete the step."));
    show(<WhoIsCalled body={body} />);
    await screen.findByText(/Step 1 names nobody/);
    expect(screen.queryAllByRole("listitem")).toHaveLength(0);
  });
});
