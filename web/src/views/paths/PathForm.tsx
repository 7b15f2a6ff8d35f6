import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { deletePath, keepPath, type PathRow } from "../../api/pathQueries";
import { sitesQuery } from "../../api/queries";
import { Choice, Field } from "../../components/Field";
import { FormFoot } from "../../components/FormFoot";
import { useKeeping } from "../setup/useKeeping";

/** A path: between which sites, whom it asks, and how. */
export function PathForm({ path, onDone }: { path: PathRow | null; onDone: () => void }) {
  const { data: sites } = useQuery(sitesQuery);
  const names = ["", ...(sites ?? []).map(({ name }) => name)];
  const [draft, setDraft] = useState({
    name: path?.name ?? "",
    prober: path?.prober ?? "prober",
    from_site: path?.from_site ?? "",
    to_site: path?.to_site ?? "",
    address: path?.address ?? "",
    port: String(path?.port ?? 862),
    dscp: String(path?.dscp ?? 0),
    octets: String(path?.octets ?? 100),
    every_ms: String(path?.every_ms ?? 1000),
    enabled: path?.enabled ?? true,
  });
  const change = (changed: Partial<typeof draft>) => setDraft({ ...draft, ...changed });
  const { submit, foot } = useKeeping({
    listed: ["paths"],
    save: () =>
      keepPath(path?.id ?? null, {
        ...draft,
        port: Number(draft.port),
        dscp: Number(draft.dscp),
        octets: Number(draft.octets),
        every_ms: Number(draft.every_ms),
      }),
    remove: path ? () => deletePath(path.id) : undefined,
    onDone,
  });
  const text = (name: "name" | "prober" | "address") => ({
    value: draft[name],
    required: true,
    onChange: (event: { target: { value: string } }) => change({ [name]: event.target.value }),
  });
  const number = (name: "port" | "dscp" | "octets" | "every_ms") => ({
    value: draft[name],
    required: true,
    inputMode: "numeric" as const,
    onChange: (event: { target: { value: string } }) => change({ [name]: event.target.value }),
  });
  return (
    <form onSubmit={submit} className="max-w-[720px]">
      <h1 className="mb-2 text-title font-semibold tracking-tight">{path ? `Change ${path.name}` : "New path"}</h1>
      <div className="grid grid-cols-2 gap-3 max-md:grid-cols-1">
        <Field label="Name" maxLength={120} placeholder="Depot – Hexwater, voice" {...text("name")} />
        <Field label="Prober" hint="which one sends the test packets" {...text("prober")} />
        <Choice
          label="From"
          hint="the site where they come from"
          options={names}
          value={draft.from_site}
          onChange={(event) => change({ from_site: event.target.value })}
        />
        <Choice
          label="To"
          hint="the site that they go to"
          options={names}
          value={draft.to_site}
          onChange={(event) => change({ to_site: event.target.value })}
        />
        <Field label="Reflector" hint="its address" placeholder="192.0.2.1" {...text("address")} />
        <Field label="Port" hint="862 by RFC 8762" {...number("port")} />
        <Field label="DSCP" hint="0 to 63; 46 is EF" {...number("dscp")} />
        <Field label="Octets of a test packet" hint="44 to 8,900" {...number("octets")} />
        <Field label="Milliseconds between two probes" hint="20 to 60,000" {...number("every_ms")} />
        <label className="flex items-center gap-2 self-end pb-2">
          <input
            type="checkbox"
            checked={draft.enabled}
            onChange={(event) => change({ enabled: event.target.checked })}
          />
          measured
        </label>
      </div>
      <FormFoot {...foot} />
    </form>
  );
}
