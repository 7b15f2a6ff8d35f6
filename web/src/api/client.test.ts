import { describe, expect, it } from "vitest";
import { ApiProblem, got } from "./client";

const answer = (status: number, body: { data?: unknown; error?: unknown }) =>
  Promise.resolve({ ...body, response: new Response(null, { status, statusText: "No words" }) });

describe("what the API answers", () => {
  it("is data, or a problem with the API's own words", async () => {
    expect(await got(answer(200, { data: { a: 1 } }))).toEqual({ a: 1 });
    const failing = got(answer(422, { error: { status: 422, detail: "The limit must be above 0." } }));
    await expect(failing).rejects.toThrow("The limit must be above 0.");
    await expect(failing).rejects.toBeInstanceOf(ApiProblem);
  });
  it("has some words even without a body", async () => {
    await expect(got(answer(502, {}))).rejects.toThrow("No words");
  });
});
