import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { client, got, type Schemas } from "../../api/client";
import { credentialsQuery } from "../../api/queries";
import { moment } from "../../parts/format";
import { Problem } from "../../parts/Problem";
import { CredentialForm } from "./CredentialForm";
import { Ordered } from "./Ordered";
import { Page } from "./Page";

type Credential = Schemas["CredentialOut"];

const VERSION: Record<string, string> = { v1: "version 1", v2c: "version 2c", v3: "version 3" };

/** How devices are spoken to, in the order of trying; secrets are never shown. */
export function Credentials() {
  const { data, error } = useQuery(credentialsQuery);
  const [open, setOpen] = useState<number | "new" | null>(null);
  const queries = useQueryClient();
  const order = useMutation({
    mutationFn: (ids: number[]) => got(client.PUT("/api/v1/credentials/order", { body: { ids } })),
    onSuccess: (rows) => queries.setQueryData(credentialsQuery.queryKey, rows),
  });
  if (!data) return <Problem error={error} />;
  const chosen = data.rows.find((row) => row.id === open);
  return (
    <Page
      title="Credentials"
      words="Tried from top to bottom at each site, its own before those for everywhere. What is changed here holds for every device that uses it."
      aside={
        open === null && data.rows.length > 0 ? (
          <button type="button" className="button" onClick={() => setOpen("new")}>
            Make a credential
          </button>
        ) : (
          <CredentialForm
            key={chosen ? `${chosen.id} ${chosen.edition}` : "new"}
            {...(chosen ? { stored: chosen } : {})}
            protocols={data.protocols}
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
        up="Try earlier:"
        words={(row) => <Said row={row} />}
        aside={(row) => (
          <span title={`changed ${moment(new Date(row.changed_at))} ${row.changed_by ? `by ${row.changed_by}` : ""}`}>
            <span className="mr-4 text-ink2" title={row.sites.join(", ")}>
              {row.sites.length ? row.sites.join(", ") : "everywhere"}
            </span>
            {row.devices} <span className="text-ink2">{row.devices === 1 ? "device" : "devices"}</span>
          </span>
        )}
      />
      {data.rows.length === 0 && <p className="py-2">There is none yet. Make the first one on the right.</p>}
    </Page>
  );
}

function Said({ row }: { row: Credential }) {
  const spoken = [VERSION[row.kind], row.user, row.auth, row.priv].filter(Boolean).join(", ");
  return (
    <>
      <span className="text-ink2">{spoken}</span>
      {row.advice.map((advice) => (
        <p key={advice} className="text-[12px] text-ink2 italic">
          {advice}
        </p>
      ))}
    </>
  );
}
