import { ApiProblem, cookie } from "./client";

async function post(path: string, body: BodyInit, type: string, signal?: AbortSignal): Promise<Response> {
  const answer = await fetch(`/api/v1/${path}`, {
    method: "POST",
    headers: { "Content-Type": type, "X-CSRFToken": cookie("lumtar_csrf") },
    body,
    ...(signal ? { signal } : {}),
  });
  if (answer.ok) return answer;
  const problem = (await answer.json().catch(() => ({}))) as { detail?: string };
  throw new ApiProblem(answer.status, problem.detail ?? answer.statusText);
}

/** A call that takes text. */
export async function postText<T>(path: string, text: string): Promise<T> {
  return (await post(path, text, "text/csv; charset=utf-8")).json() as Promise<T>;
}

/** A call that takes a file as it is. */
export async function postFile<T>(path: string, file: File): Promise<T> {
  return (await post(path, file, "application/octet-stream")).json() as Promise<T>;
}

/**
 * Calls whose answer comes line by line while the work goes on. Each line is handed on as it
 * arrives; aborting the signal ends the work on the other side too.
 */
export async function readLines<T>(path: string, body: unknown, onLine: (line: T) => void, signal: AbortSignal) {
  const answer = await post(path, JSON.stringify(body), "application/json", signal);
  const reader = (answer.body as ReadableStream<BufferSource>).pipeThrough(new TextDecoderStream()).getReader();
  let kept = "";
  for (;;) {
    const { value, done } = await reader.read();
    if (done) break;
    const lines = (kept + value).split("\n");
    kept = lines.pop() ?? "";
    for (const line of lines) onLine(JSON.parse(line) as T);
  }
}
