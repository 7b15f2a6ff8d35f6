import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { client, got } from "../../api/client";
import { writingQuery } from "../../api/setupQueries";
import { useMay } from "../../app/session";
import { moment } from "../../components/format";
import { Problem } from "../../components/Problem";

/** Whether Lumtar may change anything on devices: the switch for all of them. */
export function Writing() {
  const may = useMay();
  const again = useQueryClient();
  const { data, error } = useQuery(writingQuery);
  const allow = useMutation({
    mutationFn: (is_allowed: boolean) => got(client.PUT("/api/v1/writing", { body: { is_allowed } })),
    onSuccess: (now) => again.setQueryData(writingQuery.queryKey, now),
  });
  if (!data) return <Problem error={error} />;
  return (
    <section aria-label="Writing to devices" className="mb-4 max-w-[720px]">
      <p>
        <b className="font-semibold">{data.is_allowed ? "Writing is allowed." : "Lumtar is read-only."}</b>{" "}
        {data.is_allowed
          ? "Engineers can switch ports and their power off and on and change descriptions, with a reason, by the credentials for writing."
          : "It changes nothing on devices, whoever asks for it."}{" "}
        {data.changed_at && (
          <span className="text-ink2">
            since {moment(new Date(data.changed_at))} by {data.changed_by}
          </span>
        )}{" "}
        {may("administrator", true) && (
          <button
            type="button"
            className="min-h-6 underline"
            disabled={allow.isPending}
            onClick={() => allow.mutate(!data.is_allowed)}
          >
            {data.is_allowed ? "make it read-only" : "allow writing"}
          </button>
        )}
      </p>
      <Problem error={allow.error} />
    </section>
  );
}
