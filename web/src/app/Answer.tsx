import { useMutation, useQuery } from "@tanstack/react-query";
import { client, got } from "../api/client";
import { counted } from "../components/format";
import { Mark } from "./Mark";

/** Acknowledging by the link in a message, without signing in. Nothing is done before the button is pressed. */
export function Answer() {
  const token = window.location.hash.slice(1);
  const { data, error } = useQuery({
    queryKey: ["answer", token],
    queryFn: () => got(client.POST("/api/v1/answers/look", { body: { token } })),
    retry: false,
  });
  const acknowledge = useMutation({
    mutationFn: () => got(client.POST("/api/v1/answers", { body: { token } })),
  });
  const problem = error ?? acknowledge.error;
  return (
    <main className="mx-auto grid h-full max-w-[420px] content-center px-4">
      <Mark />
      <h1 className="mt-6 text-headline leading-tight tracking-tight">Acknowledge</h1>
      {problem && (
        <p role="alert" className="mt-2 text-critical">
          {problem.message}
        </p>
      )}
      {acknowledge.data ? (
        <p role="status" className="mt-2">
          {counted(acknowledge.data.alarms, "alarm")} acknowledged. Nobody else is called unless{" "}
          {acknowledge.data.alarms === 1 ? "it gets" : "one of them gets"} worse.
        </p>
      ) : (
        data && (
          <>
            <p className="mt-2 text-ink2">
              {data.alarms.length
                ? `Sent to ${data.contact}. Still active:`
                : `Sent to ${data.contact}. Nothing of it is active any more: there is nothing to acknowledge.`}
            </p>
            <ul className="my-2">
              {data.alarms.slice(0, 8).map((label) => (
                <li key={label} className="border-b border-dotted border-rule py-1">
                  {label}
                </li>
              ))}
              {data.alarms.length > 8 && <li className="py-1 text-ink2">and more</li>}
            </ul>
            {data.alarms.length > 0 && (
              <button
                type="button"
                className="button justify-self-start"
                disabled={acknowledge.isPending}
                onClick={() => acknowledge.mutate()}
              >
                I look after it
              </button>
            )}
          </>
        )
      )}
      <p className="mt-6">
        <a className="underline" href="/alarms">
          Open Lumtar
        </a>
      </p>
    </main>
  );
}
