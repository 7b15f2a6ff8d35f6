import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { endRecording, keepRecords, recordingsQuery } from "../../api/trafficQueries";
import { useMay } from "../../app/session";
import { moment } from "../../components/format";
import { InlineChoice } from "../../components/InlineChoice";
import { Problem } from "../../components/Problem";

const HOURS = [
  ["1", "an hour"],
  ["8", "8 hours"],
  ["24", "a day"],
  ["168", "a week"],
] as const;

/** Whose records are kept one by one, until when; and keeping more. */
export function Recordings({ device }: { device: number | null }) {
  const may = useMay();
  const queries = useQueryClient();
  const [hours, setHours] = useState("1");
  const { data } = useQuery(recordingsQuery);
  const renew = () => queries.invalidateQueries({ queryKey: recordingsQuery.queryKey });
  const begin = useMutation({ mutationFn: () => keepRecords(device, Number(hours)), onSuccess: renew });
  const end = useMutation({ mutationFn: endRecording, onSuccess: renew });
  const mayKeep = may("engineer", true);
  return (
    <section aria-label="Records that are kept" className="mt-3 text-small">
      <h2 className="heading">Kept one by one</h2>
      <Problem error={begin.error ?? end.error} />
      {data?.map((each) => (
        <p key={each.id} className="flex gap-3 py-[3px]">
          <span>
            {each.device || "all exporters"} until {moment(new Date(each.until))}{" "}
            <span className="text-ink2">by {each.by}</span>
          </span>
          {mayKeep && (
            <button type="button" className="underline" onClick={() => end.mutate(each.id)}>
              end
            </button>
          )}
        </p>
      ))}
      {data?.length === 0 && (
        <p className="text-ink2">
          Nobody’s, unless somebody looks at them as they come. Their sums are stored all the same.
        </p>
      )}
      {mayKeep && (
        <p className="mt-1 flex flex-wrap items-center gap-2">
          <InlineChoice
            label={`Keep the records of ${device ? "this device" : "all exporters"} for`}
            value={hours}
            options={HOURS}
            onChoose={setHours}
          />
          <button type="button" className="button" disabled={begin.isPending} onClick={() => begin.mutate()}>
            Keep them
          </button>
        </p>
      )}
    </section>
  );
}
