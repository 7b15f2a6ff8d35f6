import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { deletePath, keepPath, type PathRow, serviceClassesQuery, transportsQuery } from "../../api/pathQueries";
import { sitesQuery } from "../../api/queries";
import { Check, Choice, Field, Labelled } from "../../components/Field";
import { FormFoot } from "../../components/FormFoot";
import { useKeeping } from "../setup/useKeeping";
import { DeviceTest } from "./DeviceTest";
import { isPacket, KINDS } from "./pathWords";

/** A path: between which sites, how it is measured, whom it asks, and for what. */
export function PathForm({ path, onDone }: { path: PathRow | null; onDone: () => void }) {
  const { data: sites } = useQuery(sitesQuery);
  const { data: classes } = useQuery(serviceClassesQuery);
  const { data: transports } = useQuery(transportsQuery);
  const names = ["", ...(sites ?? []).map(({ name }) => name)];
  const [draft, setDraft] = useState({
    name: path?.name ?? "",
    prober: path?.prober ?? "prober",
    from_site: path?.from_site ?? "",
    to_site: path?.to_site ?? "",
    service_class: path?.service_class ?? "",
    transport: path?.transport ?? "",
    device: path?.device ?? null,
    groups: (path?.groups ?? []).join(", "),
    kind: path?.kind ?? "stamp",
    address: path?.address ?? "",
    asked: path?.asked ?? "",
    expected: path?.expected ?? "",
    verifies: path?.verifies ?? true,
    port: String(path?.port ?? 862),
    dscp: String(path?.dscp ?? 0),
    octets: String(path?.octets ?? 100),
    every_ms: String(path?.every_ms ?? 1000),
    enabled: path?.enabled ?? true,
    traces: path?.traces ?? false,
  });
  const change = (changed: Partial<typeof draft>) => setDraft({ ...draft, ...changed });
  const kind = KINDS[draft.kind];
  const isByDevice = draft.kind === "device";
  const isStamped = isPacket(draft.kind) && !isByDevice;
  const become = (next: string) =>
    change({ kind: next, port: String(KINDS[next]?.port ?? 0), every_ms: String(KINDS[next]?.everyMs ?? 1000) });
  const { submit, foot } = useKeeping({
    listed: ["paths"],
    save: () =>
      keepPath(path?.id ?? null, {
        ...draft,
        device: isByDevice ? draft.device : null,
        groups: draft.groups.split(",").map((name) => name.trim()),
        asked: kind?.asked || isByDevice ? draft.asked : "",
        expected: kind?.asked ? draft.expected : "",
        port: Number(draft.port),
        dscp: Number(draft.dscp),
        octets: Number(draft.octets),
        every_ms: Number(draft.every_ms),
      }),
    remove: path ? () => deletePath(path.id) : undefined,
    onDone,
  });
  const text = (name: "groups" | "name" | "prober" | "address" | "asked" | "expected") => ({
    value: draft[name],
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
        <Field label="Name" required maxLength={120} placeholder="Depot – Hexwater, voice" {...text("name")} />
        {!isByDevice && <Field label="Prober" required hint="which one sends the probes" {...text("prober")} />}
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
        <Choice
          label="Service class"
          hint="what is promised of it"
          options={["", ...(classes ?? []).map(({ name }) => name)]}
          value={draft.service_class}
          onChange={(event) => change({ service_class: event.target.value })}
        />
        <Choice
          label="Transport"
          hint="the line that its probes take"
          options={["", ...(transports ?? []).map(({ name }) => name)]}
          value={draft.transport}
          onChange={(event) => change({ transport: event.target.value })}
        />
        <Field label="Groups" hint="separated by commas" {...text("groups")} />
        <Labelled label="Measured by">
          <select className="field" value={draft.kind} onChange={(event) => become(event.target.value)}>
            {Object.entries(KINDS).map(([name, { words }]) => (
              <option key={name} value={name}>
                {words}
              </option>
            ))}
          </select>
        </Labelled>
        {kind?.asked && (
          <Field label="Asks for" required hint={kind.asked} placeholder={kind.example} {...text("asked")} />
        )}
        {isByDevice && (
          <DeviceTest
            device={draft.device}
            asked={draft.asked}
            onDevice={(device) => change({ device, asked: "" })}
            onTest={(asked, address) => change({ asked, address })}
          />
        )}
        <Field
          label={kind?.whom ?? "Address"}
          hint={
            draft.kind === "http"
              ? "only if the name is not to be looked up"
              : isByDevice
                ? "as the device tells"
                : "its address"
          }
          required={draft.kind !== "http" && !isByDevice}
          placeholder="192.0.2.1"
          {...text("address")}
        />
        {kind?.asked && <Field label="Expects" hint="in the answer; empty: any" {...text("expected")} />}
        {(kind?.port ?? 0) > 0 && <Field label="Port" hint={`usual is ${kind?.port}`} {...number("port")} />}
        <Field label="DSCP" hint="0 to 63; 46 is EF" {...number("dscp")} />
        {isStamped && <Field label="Octets of a probe" hint="44 to 8,900" {...number("octets")} />}
        {!isByDevice && (
          <Field
            label="Milliseconds between two probes"
            hint={isStamped ? "20 or more" : "1,000 or more"}
            {...number("every_ms")}
          />
        )}
        {draft.kind === "http" && (
          <Check
            words="its certificate has to be trusted here"
            is={draft.verifies}
            onChange={(verifies) => change({ verifies })}
          />
        )}
        <Check
          words="its route is looked at once a minute"
          is={draft.traces}
          onChange={(traces) => change({ traces })}
        />
        <Check words="measured" is={draft.enabled} onChange={(enabled) => change({ enabled })} />
      </div>
      <FormFoot {...foot} />
    </form>
  );
}
