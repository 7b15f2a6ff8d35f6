import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { client, got } from "../../api/client";
import { profilesQuery } from "../../api/queries";
import { duration } from "../../parts/format";
import { Problem } from "../../parts/Problem";
import { Ordered } from "./Ordered";
import { Page } from "./Page";
import { ProfileForm } from "./ProfileForm";

/** Kinds of devices: how each is recognised, and what is read from it. */
export function Profiles() {
  const { data, error } = useQuery(profilesQuery);
  const [open, setOpen] = useState<number | "new" | null>(null);
  const queries = useQueryClient();
  const order = useMutation({
    mutationFn: (ids: number[]) => got(client.PUT("/api/v1/profiles/order", { body: { ids } })),
    onSuccess: (rows) => queries.setQueryData(profilesQuery.queryKey, rows),
  });
  if (!data) return <Problem error={error} />;
  const chosen = data.rows.find((row) => row.id === open);
  return (
    <Page
      title="Profiles"
      words="What is read from a kind of device, and how the kind is recognised. The longest prefix of sysObjectID wins; of profiles without one, the first whose condition holds."
      aside={
        open === null ? (
          <button type="button" className="button" onClick={() => setOpen("new")}>
            Make a profile
          </button>
        ) : (
          <ProfileForm
            key={chosen ? `${chosen.id} ${chosen.edition}` : "new"}
            {...(chosen ? { stored: chosen } : {})}
            profiles={data}
            onDone={() => setOpen(null)}
          />
        )
      }
    >
      <Problem error={order.error} />
      <Ordered
        rows={data.rows}
        open={open}
        onOpen={setOpen}
        onOrder={(ids) => order.mutate(ids)}
        up="Weigh earlier:"
        words={(row) => (
          <>
            <span className="text-ink2">{row.kind}</span>
            <p className="figures truncate text-[12px] text-ink2">
              {[row.prefixes.length ? `under ${row.prefixes.join(", ")}` : "", row.condition]
                .filter(Boolean)
                .join(" and ") || "only where somebody chooses it"}
            </p>
          </>
        )}
        aside={(row) => (
          <>
            <span className="text-ink2">
              {[
                row.objects.length ? `${row.objects.length} own` : "",
                row.interval_s ? `every ${duration(row.interval_s)}` : "",
              ]
                .filter(Boolean)
                .join(", ")}
            </span>
            {(row.objects.length > 0 || row.interval_s) && " · "}
            {row.devices} <span className="text-ink2">{row.devices === 1 ? "device" : "devices"}</span>
          </>
        )}
      />
    </Page>
  );
}
