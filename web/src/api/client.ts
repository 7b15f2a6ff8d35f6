import createClient from "openapi-fetch";
import type { components, paths } from "./schema";

export type Schemas = components["schemas"];

/** An error answer of the API: RFC 9457 problem details. */
export class ApiProblem extends Error {
  constructor(
    readonly status: number,
    detail: string,
  ) {
    super(detail);
  }
}

export function cookie(name: string): string {
  const found = document.cookie.split("; ").find((part) => part.startsWith(`${name}=`));
  return found ? decodeURIComponent(found.slice(name.length + 1)) : "";
}

const client = createClient<paths>({
  baseUrl: "/",
  fetch: async (request) => {
    if (request.method !== "GET") request.headers.set("X-CSRFToken", cookie("lumtar_csrf"));
    try {
      return await fetch(request);
    } catch {
      throw new ApiProblem(0, "Lumtar does not answer. What is on screen is the last that was known.");
    }
  },
});

type Answer<T> = { data?: T; error?: unknown; response: Response };

/** The data of an answer, or the problem thrown. */
async function got<T>(answer: Promise<Answer<T>>): Promise<T> {
  const { data, error, response } = await answer;
  if (data !== undefined || response.status === 204) return data as T;
  const detail = error && typeof error === "object" && "detail" in error ? String(error.detail) : response.statusText;
  throw new ApiProblem(response.status, detail);
}

export { client, got };
