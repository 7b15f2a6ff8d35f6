import { useMutation, useQuery } from "@tanstack/react-query";
import { useEffect } from "react";
import { client, got } from "../../api/client";
import { pollQuery } from "../../api/queries";
import { rate, text } from "../../components/format";

/** A poll at once, and its record: each request, how long it took, what came back, what was computed. */
export function PollNow({ device }: { device: number }) {
  const ask = useMutation({
    mutationFn: () => got(client.POST("/api/v1/devices/{device}/polls", { params: { path: { device } } })),
  });
  const { mutate } = ask;
  useEffect(() => mutate(), [mutate]);
  const poll = ask.data?.id ?? 0;
  const { data: found } = useQuery({ ...pollQuery(device, poll), enabled: poll > 0 });
  const record = found?.record;
  return (
    <section aria-label="The poll" aria-live="polite" className="figures my-2 max-w-[720px] border-l-2 border-ink pl-3">
      {ask.error ? (
        <p role="alert" className="text-critical">
          {ask.error.message}
        </p>
      ) : !record ? (
        <p className="text-ink2">Waiting for the collector to poll …</p>
      ) : (
        <>
          <p>
            {record.fault ? (
              <b className="font-medium text-critical">{record.fault}</b>
            ) : (
              `Took ${record.took_ms.toFixed(0)} ms`
            )}{" "}
            in {record.exchanges.length} {record.exchanges.length === 1 ? "request" : "requests"}.{" "}
            <button type="button" className="underline" onClick={() => mutate()}>
              Again
            </button>
          </p>
          <div className="max-h-[260px] overflow-auto">
            <table className="w-full text-small">
              <caption className="sr-only">Requests</caption>
              <tbody>
                {record.exchanges.map((each, place) => (
                  // biome-ignore lint/suspicious/noArrayIndexKey: a record does not change
                  <tr key={place} className="border-b border-faint">
                    <td className="w-16 py-[2px]">{each.kind}</td>
                    <td className="truncate text-ink2">
                      {each.first}
                      {each.asked > 1 && ` and ${each.asked - 1} more`}
                    </td>
                    <td className={each.fault ? "text-critical" : ""}>{each.fault || `${each.answers} answers`}</td>
                    <td className="w-20 text-right">
                      {each.took_ms.toFixed(1)}
                      <span className="unit">ms</span>
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
            <table className="mt-2 w-full text-small">
              <caption className="heading">Computed values</caption>
              <tbody>
                {record.computed.map((each) => (
                  <tr key={each.id} className="border-b border-faint">
                    <td className="max-w-[220px] truncate py-[2px]">{each.label}</td>
                    <td className="text-right">{each.in_bps === null ? "–" : `${text(rate(each.in_bps ?? 0))} in`}</td>
                    <td className="text-right">
                      {each.out_bps === null ? "–" : `${text(rate(each.out_bps ?? 0))} out`}
                    </td>
                    <td className="pl-3 text-ink2">{each.words || `over ${each.seconds} s`}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          </div>
        </>
      )}
    </section>
  );
}
