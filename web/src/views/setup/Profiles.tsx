import { useQuery } from "@tanstack/react-query";
import { client, got } from "../../api/client";
import { profilesQuery } from "../../api/setupQueries";
import { duration } from "../../components/format";
import { Problem } from "../../components/Problem";
import { OrderedPage } from "./OrderedPage";
import { ProfileForm } from "./ProfileForm";

/** Kinds of devices: how each is recognised, and what is read from it. */
export function Profiles() {
  const { data, error } = useQuery(profilesQuery);
  if (!data) return <Problem error={error} />;
  return (
    <OrderedPage
      title="Profiles"
      words="What is read from a kind of device, and how the kind is recognised. The longest matching sysObjectID prefix wins; among profiles without one, the first whose condition matches."
      make="New profile"
      up="Weigh earlier:"
      rows={data.rows}
      listed={profilesQuery.queryKey}
      order={(ids) => got(client.PUT("/api/v1/profiles/order", { body: { ids } }))}
      form={(stored, onDone) => <ProfileForm {...(stored ? { stored } : {})} profiles={data} onDone={onDone} />}
      said={(row) => (
        <>
          <span className="text-ink2">{row.kind}</span>
          <p className="figures truncate text-small text-ink2">
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
      empty="No profiles yet: the standard tables are read from every device."
    />
  );
}
