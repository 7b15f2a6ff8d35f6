import { cleanup, fireEvent, screen, waitFor } from "@testing-library/react";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { client } from "../api/client";
import { show } from "../testing/show";
import { Answer } from "./Answer";

vi.mock("../api/client", async (original) => ({
  ...(await original<typeof import("../api/client")>()),
  client: { POST: vi.fn() },
  got: (answer: Promise<unknown>) => answer,
}));
const post = vi.mocked(client.POST as unknown as (path: string, options: { body: unknown }) => Promise<unknown>);
const asked = (...alarms: string[]) => post.mockResolvedValueOnce({ contact: "Anna", alarms });

beforeEach(() => {
  post.mockReset();
  window.location.hash = "#12:signed";
});
afterEach(cleanup);

describe("acknowledging by the link of a message", () => {
  it("asks first, and does nothing before somebody says so", async () => {
    asked("hex-wan-1 Transport A", "sal-acc-1");
    show(<Answer />);
    await screen.findByText("sal-acc-1");
    expect(post.mock.calls.map(([path]) => path)).toEqual(["/api/v1/answers/look"]);
    post.mockResolvedValueOnce({ alarms: 2 });
    fireEvent.click(screen.getByText("I look after it"));
    await screen.findByText(/2 alarms acknowledged. Nobody else is called unless one of them gets worse/);
    expect(post.mock.calls[1]).toEqual(["/api/v1/answers", { body: { token: "12:signed" } }]);
    expect(screen.queryByText("I look after it")).toBeNull();
  });

  it("has nothing to press when all of it is over", async () => {
    asked();
    show(<Answer />);
    await screen.findByText(/there is nothing to acknowledge/);
    expect(screen.queryByRole("button")).toBeNull();
  });

  it("says why a link does not hold any more", async () => {
    post.mockRejectedValue(new Error("This link is older than 7 days; sign in to acknowledge."));
    show(<Answer />);
    await waitFor(() => expect(screen.getByRole("alert").textContent).toContain("older than 7 days"));
    expect(screen.getByText("Open Lumtar").getAttribute("href")).toBe("/alarms");
  });

  it("names eight of many", async () => {
    asked(...Array.from({ length: 20 }, (_, number) => `port ${number}`));
    show(<Answer />);
    await screen.findByText("port 7");
    expect(screen.queryByText("port 8")).toBeNull();
    expect(screen.getByText("and more")).toBeTruthy();
  });
});
