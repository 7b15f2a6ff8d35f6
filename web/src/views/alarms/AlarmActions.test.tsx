import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { act, cleanup, fireEvent, render, screen, waitFor } from "@testing-library/react";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { client, type Schemas } from "../../api/client";
import { AlarmActions } from "./AlarmActions";

vi.mock("../../app/session", () => ({ useMay: () => (wanted: string) => wanted === role.may }));
vi.mock("../../api/client", async (original) => ({
  ...(await original<typeof import("../../api/client")>()),
  client: { POST: vi.fn() },
  got: (answer: Promise<{ data: unknown }>) => answer.then(({ data }) => data),
}));

const role = { may: "operator" };
const post = vi.mocked(client.POST as (path: string, options: { body: unknown }) => Promise<unknown>);
const row = (id: number, more: Partial<Schemas["AlarmRow"]> = {}) =>
  ({ id, severity: 4, acknowledged_by: null, shelved_by: null, ...more }) as Schemas["AlarmRow"];

function show(rows: Schemas["AlarmRow"][], onDone?: () => void) {
  render(
    <QueryClientProvider client={new QueryClient()}>
      <AlarmActions rows={rows} {...(onDone ? { onDone } : {})} />
    </QueryClientProvider>,
  );
}
const sent = () => post.mock.calls.map(([, { body }]) => body);

beforeEach(() => {
  role.may = "operator";
  post.mockReset().mockResolvedValue({ data: { alarms: 1 } });
});
afterEach(cleanup);

describe("actions on alarms", () => {
  it("acknowledges several at once, with the text that was typed", async () => {
    const done = vi.fn();
    show([row(1), row(2)], done);
    fireEvent.change(screen.getByLabelText("Comment"), { target: { value: "on my way" } });
    fireEvent.click(screen.getByText("Acknowledge"));
    await waitFor(() => expect(done).toHaveBeenCalledOnce());
    expect(sent()).toEqual([{ alarms: [1, 2], text: "on my way", kind: "acknowledge" }]);
    expect((screen.getByLabelText("Comment") as HTMLInputElement).value).toBe("");
  });

  it("takes back what all of them have, and only then", async () => {
    show([row(1, { acknowledged_by: "anna" }), row(2)]);
    expect(screen.queryByText("Take back acknowledgement")).toBeNull();
    cleanup();
    show([row(1, { acknowledged_by: "anna" })]);
    fireEvent.click(screen.getByText("Take back acknowledgement"));
    await waitFor(() => expect(sent()).toEqual([{ alarms: [1], text: "", kind: "unacknowledge" }]));
  });

  it("shelves for a time, or until it is cleared", async () => {
    show([row(1)]);
    fireEvent.click(screen.getByText("Shelve"));
    await waitFor(() => expect(sent()).toHaveLength(1));
    fireEvent.change(screen.getByLabelText("For how long"), { target: { value: "" } });
    fireEvent.click(screen.getByText("Shelve"));
    await waitFor(() => expect(sent()).toHaveLength(2));
    expect(sent()).toEqual([
      { alarms: [1], text: "", kind: "shelve", for_s: 3600 },
      { alarms: [1], text: "", kind: "shelve", for_s: null },
    ]);
  });

  it("offers of a cleared one nothing but a comment, and of a shelved one to take it off", () => {
    show([row(1, { severity: 0 })]);
    expect(screen.getAllByRole("button").map((each) => each.textContent)).toEqual(["Comment"]);
    cleanup();
    show([row(1, { shelved_by: "anna" })]);
    expect(screen.getAllByRole("button").map((each) => each.textContent)).toEqual([
      "Acknowledge",
      "Unshelve",
      "Comment",
    ]);
  });

  it("says why it was refused and keeps what was typed", async () => {
    post.mockRejectedValue(new Error("Some of these alarms are not there any more."));
    show([row(1)]);
    fireEvent.change(screen.getByLabelText("Comment"), { target: { value: "the optic is old" } });
    fireEvent.submit(screen.getByRole("form"));
    await screen.findByText("Some of these alarms are not there any more.");
    expect((screen.getByLabelText("Comment") as HTMLInputElement).value).toBe("the optic is old");
  });

  it("answers to single keys, but not while somebody types", async () => {
    show([row(1)]);
    fireEvent.keyDown(screen.getByLabelText("Comment"), { key: "a" });
    expect(sent()).toEqual([]);
    act(() => void fireEvent.keyDown(window, { key: "c" }));
    expect(document.activeElement).toBe(screen.getByLabelText("Comment"));
    fireEvent.keyDown(window, { key: "a" });
    await waitFor(() => expect(sent()).toEqual([{ alarms: [1], text: "", kind: "acknowledge" }]));
  });

  it("is not there for those who may only look", () => {
    role.may = "viewer";
    show([row(1)]);
    expect(screen.queryByRole("form")).toBeNull();
  });
});
