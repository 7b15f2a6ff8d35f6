import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { client, got, type Schemas } from "../../api/client";
import { deviceQuery, devicesQuery, groupsQuery, interfaceQuery, sitesQuery } from "../../api/queries";
import type { Failing } from "../../api/topologyQueries";
import { Field, Labelled } from "../../components/Field";
import { FormFoot } from "../../components/FormFoot";
import { FromUntil } from "../../components/FromUntil";
import { ownZone } from "../calling/ContactForm";
import { Impact } from "../map/Impact";
import { useKeeping } from "../setup/useKeeping";
import { bodyOf, draftOf, type Part, REPEATS } from "./maintenanceDraft";

type Props = {
  stored: Schemas["MaintenanceOut"] | undefined;
  /** A device or a port that a new one is about. */
  of: { device?: number | null; port?: number | null };
  onDone: () => void;
};

/** A maintenance to plan or to change. */
export function MaintenanceForm({ stored, of, onDone }: Props) {
  const { data: device } = useQuery({ ...deviceQuery(of.device ?? 0, null), enabled: Boolean(of.device) });
  const { data: port } = useQuery({ ...interfaceQuery(of.port ?? 0, null), enabled: Boolean(of.port) });
  if ((of.device && !device) || (of.port && !port)) return <p className="text-ink2">Loading …</p>;
  const parts: Part[] = stored ? partsOf(stored) : [];
  if (device) parts.push({ kind: "devices", id: device.row.id, words: device.row.name });
  if (port) parts.push({ kind: "interfaces", id: port.row.id, words: `${port.row.device} ${port.row.label}` });
  return <Fields stored={stored} parts={parts} onDone={onDone} />;
}

/** What a stored one is about; its words come in the order of its kinds. */
function partsOf(stored: Schemas["MaintenanceOut"]): Part[] {
  const kinds = ["sites", "groups", "devices", "interfaces"] as const;
  const listed = kinds.flatMap((kind) => (stored[kind] ?? []).map((id) => ({ kind, id })));
  return listed.map((part, place) => ({ ...part, words: stored.about[place] ?? String(part.id) }));
}

function Fields({ stored, parts, onDone }: { stored: Props["stored"]; parts: Part[]; onDone: () => void }) {
  const [draft, setDraft] = useState(() => draftOf(stored, parts));
  const change = (changed: Partial<typeof draft>) => setDraft({ ...draft, ...changed });
  const { submit, foot } = useKeeping({
    save: () => {
      const body = bodyOf(draft, stored?.zone ?? ownZone());
      if (!stored) return got(client.POST("/api/v1/maintenance", { body }));
      return got(
        client.PUT("/api/v1/maintenance/{number}", {
          params: { path: { number: stored.id } },
          body: { ...body, edition: stored.edition },
        }),
      );
    },
    remove:
      stored && (() => got(client.DELETE("/api/v1/maintenance/{number}", { params: { path: { number: stored.id } } }))),
    onDone,
  });
  const isKnown = REPEATS.some(([rule]) => rule === draft.repeats);
  return (
    <form onSubmit={submit} className="grid grid-cols-2 gap-x-3 gap-y-2">
      <h2 className="heading col-span-2">{stored ? `Change ${stored.name}` : "Plan maintenance"}</h2>
      <Field
        label="Name"
        hint="what is done"
        required
        wide
        maxLength={120}
        value={draft.name}
        onChange={(event) => change({ name: event.target.value })}
      />
      <PartsField parts={draft.parts} change={(chosen) => change({ parts: chosen })} />
      <FromUntil span={draft} change={change} />
      <Labelled wide label="Repeats">
        <select
          className="field"
          value={isKnown ? draft.repeats : "own"}
          onChange={(event) => change({ repeats: event.target.value === "own" ? "FREQ=" : event.target.value })}
        >
          {REPEATS.map(([rule, words]) => (
            <option key={rule} value={rule}>
              {words}
            </option>
          ))}
          <option value="own">by a recurrence rule</option>
        </select>
      </Labelled>
      {!isKnown && (
        <Field
          wide
          label="Recurrence rule"
          hint="RFC 5545, like FREQ=MONTHLY;BYDAY=1SU;COUNT=6"
          required
          spellCheck={false}
          value={draft.repeats}
          onChange={(event) => change({ repeats: event.target.value })}
        />
      )}
      <Labelled wide label="Reason" hint="stands at the alarms">
        <textarea
          className="field min-h-[60px]"
          maxLength={1000}
          value={draft.reason}
          onChange={(event) => change({ reason: event.target.value })}
        />
      </Labelled>
      <p className="col-span-2 text-ink2">
        While it goes on, alarms are recorded and nobody is called. What is still active at its end is called then.
      </p>
      {failing(draft.parts) && (
        <div className="col-span-2">
          <Impact question={failing(draft.parts) ?? { node: "" }} title="If all of it is down meanwhile" />
        </div>
      )}
      <FormFoot {...foot} save={stored ? "Save" : "Plan"} />
    </form>
  );
}

/** What may be down during a maintenance; groups of ports are left out. */
function failing(parts: Part[]): Failing | null {
  const of = (kind: Part["kind"]) => parts.filter((part) => part.kind === kind).map(({ id }) => id);
  const all = {
    devices: of("devices").map(Number),
    interfaces: of("interfaces").map(Number),
    sites: of("sites").map(String),
  };
  return all.devices.length + all.interfaces.length + all.sites.length > 0 ? all : null;
}

/** Sites, groups, devices: typed by name, kept as a list. */
function PartsField({ parts, change }: { parts: Part[]; change: (parts: Part[]) => void }) {
  const [typed, setTyped] = useState("");
  const { data: sites } = useQuery(sitesQuery);
  const { data: groups } = useQuery(groupsQuery);
  const { data: devices } = useQuery(devicesQuery(null, {}));
  const choices: Part[] = [
    ...(sites ?? [])
      .filter(({ name }) => name)
      .map(({ name }) => ({ kind: "sites" as const, id: name, words: `site ${name}` })),
    ...(groups?.rows ?? []).map(({ id, name }) => ({ kind: "groups" as const, id, words: `group ${name}` })),
    ...(devices?.rows ?? []).map(({ id, name }) => ({ kind: "devices" as const, id, words: name })),
  ];
  const take = (words: string) => {
    const found = choices.find((each) => each.words === words);
    if (!found) return setTyped(words);
    setTyped("");
    if (!parts.some((each) => each.words === words)) change([...parts, found]);
  };
  return (
    <fieldset className="col-span-2 grid gap-1">
      <legend>About</legend>
      <ul className="flex flex-wrap gap-1">
        {parts.map((part) => (
          <li key={part.words} className="rounded border border-rule bg-sheet px-1">
            <b className="font-medium">{part.words}</b>{" "}
            <button
              type="button"
              className="min-h-6 min-w-6 text-ink2 hover:text-ink"
              aria-label={`Leave out ${part.words}`}
              onClick={() => change(parts.filter((each) => each !== part))}
            >
              ×
            </button>
          </li>
        ))}
      </ul>
      <input
        className="field"
        aria-label="Add a site, group or device"
        placeholder="type a device, site … or group …"
        list="maintenance-parts"
        value={typed}
        onChange={(event) => take(event.target.value)}
        onKeyDown={(event) => event.key === "Enter" && event.preventDefault()}
      />
      <datalist id="maintenance-parts">
        {choices.map(({ words }) => (
          <option key={words} value={words} />
        ))}
      </datalist>
    </fieldset>
  );
}
