import { afterEach, describe, expect, it, vi } from "vitest";
import { ApiProblem } from "./client";
import { postText, readLines } from "./lines";

/** An answer whose body comes in these pieces. */
function pieces(...texts: string[]) {
  const body = new ReadableStream({
    start(controller) {
      for (const text of texts) controller.enqueue(new TextEncoder().encode(text));
      controller.close();
    },
  });
  return new Response(body, { status: 200 });
}

const read = async (answer: Response) => {
  vi.stubGlobal("fetch", async () => answer);
  const lines: unknown[] = [];
  await readLines("devices/try", {}, (line) => lines.push(line), new AbortController().signal);
  return lines;
};

afterEach(() => vi.unstubAllGlobals());

describe("answers that come line by line", () => {
  it("hands each line on, however the network cuts them", async () => {
    expect(await read(pieces('{"a":1}\n{"b"', ":2}\n", '{"c":3}\n'))).toEqual([{ a: 1 }, { b: 2 }, { c: 3 }]);
  });

  it("keeps letters together that are cut in two", async () => {
    const raw = new TextEncoder().encode('{"name":"Bücherei"}\n');
    const body = new ReadableStream({
      start(controller) {
        controller.enqueue(raw.slice(0, 10));
        controller.enqueue(raw.slice(10));
        controller.close();
      },
    });
    expect(await read(new Response(body))).toEqual([{ name: "Bücherei" }]);
  });

  it("throws the problem in the server's words", async () => {
    const detail = "127.0.0.0/8 is a range, not one address.";
    const answer = new Response(JSON.stringify({ detail }), { status: 422 });
    await expect(read(answer)).rejects.toThrow(detail);
  });

  it("says something even if the server's words cannot be read", async () => {
    const answer = new Response("<html>", { status: 502, statusText: "Bad Gateway" });
    await expect(read(answer)).rejects.toThrow("Bad Gateway");
  });
});

describe("plain text", () => {
  it("is sent as it is and the answer read", async () => {
    const sent: RequestInit[] = [];
    vi.stubGlobal("fetch", async (_: string, init: RequestInit) => {
      sent.push(init);
      return new Response('{"lines":[]}');
    });
    expect(await postText("devices/list", "address\n127.0.0.1")).toEqual({ lines: [] });
    expect(sent[0]?.body).toBe("address\n127.0.0.1");
    expect(new Headers(sent[0]?.headers).get("Content-Type")).toContain("text/csv");
  });

  it("is a problem with its number when it is too much", async () => {
    vi.stubGlobal("fetch", async () => new Response('{"detail":"at most 4 MiB"}', { status: 413 }));
    const problem = await postText("devices/list", "x").catch((error: unknown) => error);
    expect(problem).toBeInstanceOf(ApiProblem);
    expect((problem as ApiProblem).status).toBe(413);
  });
});
