import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { client, got, type Schemas } from "../../api/client";
import { credentialsQuery } from "../../api/queries";
import { moment } from "../../parts/format";
import { Problem } from "../../parts/Problem";
import { CredentialForm } from "./CredentialForm";

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
  const up = (place: number) => {
    const ids = data.rows.map((row) => row.id);
    [ids[place - 1], ids[place]] = [ids[place] as number, ids[place - 1] as number];
    order.mutate(ids);
  };
  const chosen = data.rows.find((row) => row.id === open);
  return (
    <div className="grid grid-cols-[minmax(0,1fr)_330px] gap-8 max-lg:grid-cols-1">
      <div>
        <h1 className="text-[19px] font-semibold tracking-tight">Credentials</h1>
        <p className="mb-2 text-ink2">
          Tried from top to bottom at each site, its own before those for everywhere. What is changed here holds for
          every device that uses it.
        </p>
        <Problem error={order.error} />
        <ol className="border-t border-rule">
          {data.rows.map((row, place) => (
            <Row
              key={row.id}
              row={row}
              chosen={open === row.id}
              onOpen={() => setOpen(row.id)}
              {...(place > 0 ? { onUp: () => up(place) } : {})}
            />
          ))}
        </ol>
        {data.rows.length === 0 && <p className="py-2">There is none yet. Make the first one on the right.</p>}
      </div>
      <aside>
        {open === null && data.rows.length > 0 ? (
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
        )}
      </aside>
    </div>
  );
}

function Row({
  row,
  chosen,
  onOpen,
  onUp,
}: {
  row: Credential;
  chosen: boolean;
  onOpen: () => void;
  onUp?: () => void;
}) {
  const spoken = [VERSION[row.kind], row.user, row.auth, row.priv].filter(Boolean).join(", ");
  return (
    <li
      className={`grid grid-cols-[26px_minmax(0,1fr)_130px_96px] items-baseline gap-2 border-b border-faint py-1.5 ${chosen ? "bg-lampsoft shadow-[inset_3px_0_var(--lamp)]" : ""}`}
    >
      <button
        type="button"
        className="pl-1.5 text-ink2 hover:text-ink disabled:opacity-0"
        disabled={!onUp}
        onClick={onUp}
        aria-label={`Try ${row.name} earlier`}
      >
        ↑
      </button>
      <div className="min-w-0">
        <button type="button" data-row className="font-semibold hover:underline" onClick={onOpen}>
          {row.name}
        </button>{" "}
        <span className="text-ink2">{spoken}</span>
        {row.advice.map((advice) => (
          <p key={advice} className="text-[12px] text-ink2 italic">
            {advice}
          </p>
        ))}
      </div>
      <span className="truncate text-ink2" title={row.sites.join(", ")}>
        {row.sites.length ? row.sites.join(", ") : "everywhere"}
      </span>
      <span
        className="figures text-right"
        title={`changed ${moment(new Date(row.changed_at))} ${row.changed_by ? `by ${row.changed_by}` : ""}`}
      >
        {row.devices} <span className="text-ink2">{row.devices === 1 ? "device" : "devices"}</span>
      </span>
    </li>
  );
}
