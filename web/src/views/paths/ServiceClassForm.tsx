import { useState } from "react";
import { deleteServiceClass, keepServiceClass, type ServiceClass } from "../../api/pathQueries";
import { Field } from "../../components/Field";
import { FormFoot } from "../../components/FormFoot";
import { useKeeping } from "../setup/useKeeping";
import { TARGETS } from "./levelWords";

/** What is promised of some paths. */
export function ServiceClassForm({ row, onDone }: { row: ServiceClass | null; onDone: () => void }) {
  const [draft, setDraft] = useState({
    name: row?.name ?? "",
    share: String(row?.share ?? 99),
    hours: row?.hours ?? "",
    zone: row?.zone ?? Intl.DateTimeFormat().resolvedOptions().timeZone,
  });
  const [limits, setLimits] = useState<Record<string, string>>(
    Object.fromEntries(Object.entries(row?.limits ?? {}).map(([name, value]) => [name, String(value)])),
  );
  const change = (changed: Partial<typeof draft>) => setDraft({ ...draft, ...changed });
  const typed = Object.entries(limits).filter(([, value]) => value.trim());
  const { submit, foot } = useKeeping({
    listed: ["paths"],
    save: () =>
      keepServiceClass(row?.id ?? null, {
        ...draft,
        share: Number(draft.share),
        limits: Object.fromEntries(typed.map(([name, value]) => [name, Number(value)])),
      }),
    remove: row ? () => deleteServiceClass(row.id) : undefined,
    onDone,
  });
  return (
    <form onSubmit={submit} className="grid gap-2">
      <h2 className="heading">{row ? `Change ${row.name}` : "New service class"}</h2>
      <Field
        label="Name"
        required
        maxLength={120}
        placeholder="voice"
        value={draft.name}
        onChange={(event) => change({ name: event.target.value })}
      />
      <fieldset className="grid grid-cols-2 gap-2">
        <legend className="col-span-2 text-small text-ink2">
          A minute keeps its promise if it keeps all of these; leave empty what is not promised.
        </legend>
        {TARGETS.map(([measure, words, unit]) => (
          <Field
            key={measure}
            label={words}
            hint={unit}
            inputMode="decimal"
            value={limits[measure] ?? ""}
            onChange={(event) => setLimits({ ...limits, [measure]: event.target.value })}
          />
        ))}
      </fieldset>
      <Field
        label="For how much of the time"
        hint="per cent"
        required
        inputMode="decimal"
        value={draft.share}
        onChange={(event) => change({ share: event.target.value })}
      />
      <Field
        label="Hours"
        hint="empty: always"
        placeholder="Mon-Fri 08:00-18:00"
        value={draft.hours}
        onChange={(event) => change({ hours: event.target.value })}
      />
      <Field label="Time zone" required value={draft.zone} onChange={(event) => change({ zone: event.target.value })} />
      <FormFoot {...foot} />
    </form>
  );
}
