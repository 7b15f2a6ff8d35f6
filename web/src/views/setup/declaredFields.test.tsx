import { cleanup, fireEvent, screen, waitFor, within } from "@testing-library/react";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { client } from "../../api/client";
import { show } from "../../testing/show";
import { DeclaredFields } from "./DeclaredFields";

vi.mock("../../api/client", async (original) => ({
  ...(await original<typeof import("../../api/client")>()),
  client: { GET: vi.fn(), POST: vi.fn(), PUT: vi.fn(), DELETE: vi.fn() },
  got: (answer: Promise<unknown>) => answer,
}));
type Call = (path: string, options: { body?: unknown; params?: unknown }) => Promise<unknown>;
const get = vi.mocked(client.GET as unknown as Call);
const post = vi.mocked(client.POST as unknown as Call);
const remove = vi.mocked(client.DELETE as unknown as Call);
let told: unknown;

afterEach(cleanup);
beforeEach(() => {
  vi.clearAllMocks();
  told = {
    rows: [{ id: 4, enterprise: 0, element: 45_001, part: "client_side", unit: "ms" }],
    unknown: [{ enterprise: 32473, element: 7, length: 4, exporters: ["hex-wan-1"] }],
  };
  get.mockImplementation(async () => told);
  post.mockImplementation(async () => ({}));
  remove.mockImplementation(async () => ({}));
});

describe("fields that no standard defines", () => {
  it("are said with what they tell", async () => {
    show(<DeclaredFields />);
    const row = await screen.findByRole("listitem");
    expect(row.textContent).toContain("element 45001round trip between client and exporter, in ms");
    fireEvent.click(within(row).getByRole("button", { name: "read it no longer" }));
    await waitFor(() => expect(remove.mock.calls[0]?.[1]).toMatchObject({ params: { path: { field: 4 } } }));
  });
  it("are chosen from what exporters send", async () => {
    show(<DeclaredFields />);
    const seen = await screen.findByRole("button", { name: "element 7 of enterprise 32473" });
    expect(seen.getAttribute("title")).toBe("4 octets, from hex-wan-1");
    fireEvent.click(seen);
    fireEvent.change(screen.getByLabelText("What it tells"), { target: { value: "responses" } });
    expect((screen.getByLabelText("Unit") as HTMLSelectElement).disabled).toBe(true);
    fireEvent.click(screen.getByRole("button", { name: "Declare it" }));
    await waitFor(() =>
      expect(post.mock.calls[0]?.[1].body).toEqual({ enterprise: 32473, element: 7, part: "responses", unit: "µs" }),
    );
    await waitFor(() => expect((screen.getByLabelText("Element") as HTMLInputElement).value).toBe(""));
  });
  it("say so where none is declared, and what was refused", async () => {
    told = { rows: [], unknown: [] };
    post.mockImplementation(async () => {
      throw new Error("What element 9 tells is declared already.");
    });
    show(<DeclaredFields />);
    expect(await screen.findByText("No field is declared yet.")).toBeTruthy();
    fireEvent.change(screen.getByLabelText("Element"), { target: { value: "9" } });
    fireEvent.click(screen.getByRole("button", { name: "Declare it" }));
    expect(await screen.findByText("What element 9 tells is declared already.")).toBeTruthy();
    expect((screen.getByLabelText("Element") as HTMLInputElement).value).toBe("9");
  });
});
