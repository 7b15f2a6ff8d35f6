import { useQuery } from "@tanstack/react-query";
import { client, got, type Schemas } from "../../api/client";
import { credentialsQuery } from "../../api/setupQueries";
import { moment } from "../../components/format";
import { Problem } from "../../components/Problem";
import { CredentialForm } from "./CredentialForm";
import { OrderedPage } from "./OrderedPage";
import { Writing } from "./Writing";

type Credential = Schemas["CredentialOut"];

const VERSION: Record<string, string> = { v1: "version 1", v2c: "version 2c", v3: "version 3" };

/** How devices are spoken to, in the order of trying; secrets are never shown. */
export function Credentials() {
  const { data, error } = useQuery(credentialsQuery);
  if (!data) return <Problem error={error} />;
  return (
    <OrderedPage
      title="Credentials"
      words="Tried from the top at each site, the site’s own before those for all sites. A change applies to every device that uses the credential."
      make="New credential"
      up="Try earlier:"
      rows={data.rows}
      listed={credentialsQuery.queryKey}
      order={(ids) => got(client.PUT("/api/v1/credentials/order", { body: { ids } }))}
      form={(stored, onDone) => (
        <CredentialForm {...(stored ? { stored } : {})} protocols={data.protocols} onDone={onDone} />
      )}
      before={<Writing />}
      said={(row) => <Said row={row} />}
      aside={(row) => (
        <span title={`changed ${moment(new Date(row.changed_at))} ${row.changed_by ? `by ${row.changed_by}` : ""}`}>
          <span className="mr-4 text-ink2" title={row.sites.join(", ")}>
            {row.sites.length ? row.sites.join(", ") : "everywhere"}
          </span>
          {row.devices} <span className="text-ink2">{row.devices === 1 ? "device" : "devices"}</span>
        </span>
      )}
      empty="None yet: create the first one."
    />
  );
}

function Said({ row }: { row: Credential }) {
  const spoken = [VERSION[row.kind], row.user, row.auth, row.priv].filter(Boolean).join(", ");
  return (
    <>
      <span className="text-ink2">{spoken}</span> {row.is_for_writing && <b className="font-semibold">for writing</b>}
      {row.advice.map((advice) => (
        <p key={advice} className="text-small text-ink2 italic">
          {advice}
        </p>
      ))}
    </>
  );
}
