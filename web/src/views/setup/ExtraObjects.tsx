import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { client, got, type Schemas } from "../../api/client";
import { devicesQuery } from "../../api/queries";
import { Field, Labelled } from "../../components/Field";
import { useTyped } from "../../components/useTyped";

type Extra = Required<Schemas["ObjectIO"]>;
type Props = {
  objects: Schemas["ObjectIO"][];
  kinds: OwnKind[];
  onChange: (objects: Schemas["ObjectIO"][]) => void;
};

type OwnKind = Schemas["OwnKindOut"];

const PLAIN = "object";
const BLANK: Extra = {
  oid: "",
  name: "",
  unit: "",
  scale: 1,
  counts: false,
  text: false,
  part: PLAIN,
  names: "",
  limit: "",
  states: "",
};

/** Objects that a profile reads beside the standard tables; one that is typed is read back live from a device. */
export function ExtraObjects({ objects, kinds, onChange }: Props) {
  const [draft, setDraft] = useState<Extra | null>(null);
  const kind = kinds.find(({ name }) => name === draft?.part);
  const ready = draft?.oid.includes(".") && draft.name.trim();
  return (
    <fieldset className="col-span-2">
      <legend>Own objects</legend>
      <ul className="figures text-small">
        {objects.map((each) => (
          <li
            key={`${each.part} ${each.oid}`}
            className="grid grid-cols-[minmax(0,1fr)_auto] gap-2 border-b border-faint py-1"
          >
            <span className="truncate" title={each.oid}>
              <b className="font-medium">{each.name}</b>{" "}
              <span className="text-ink2">
                {objectWords(each, kinds)} · {each.oid}
              </span>
            </span>
            <button
              type="button"
              className="underline"
              aria-label={`Take ${each.name} out`}
              onClick={() => onChange(objects.filter((other) => other !== each))}
            >
              Take out
            </button>
          </li>
        ))}
      </ul>
      {draft ? (
        <div className="mt-1 grid grid-cols-2 gap-x-3 gap-y-2 border-l-2 border-ink pl-3">
          <Field
            label="Object identifier"
            wide
            className="field figures"
            placeholder="1.3.6.1.4.1.32473.2.1.0"
            value={draft.oid}
            onChange={(event) => setDraft({ ...draft, oid: event.target.value })}
          />
          <ReadBack draft={draft} onText={(text) => setDraft({ ...draft, text })} />
          <Field
            label="Name"
            maxLength={80}
            value={draft.name}
            onChange={(event) => setDraft({ ...draft, name: event.target.value })}
          />
          <Labelled label="What it is">
            <select
              className="field"
              value={draft.part}
              onChange={(event) => setDraft({ ...draft, part: event.target.value })}
            >
              {kinds.map(({ name, words }) => (
                <option key={name} value={name}>
                  {words}
                </option>
              ))}
            </select>
          </Labelled>
          <Field
            label="Column of names"
            hint="OID; may be empty"
            value={draft.names}
            onChange={(event) => setDraft({ ...draft, names: event.target.value })}
          />
          {kind?.is_share && (
            <Field
              label="Limit"
              hint="OID"
              value={draft.limit}
              onChange={(event) => setDraft({ ...draft, limit: event.target.value })}
            />
          )}
          {kind && kind.states.length > 0 && (
            <Field
              label="The device’s numbers"
              wide
              hint={kind.states.map((word, place) => `${word} ${place + 1}`).join("; ")}
              value={draft.states}
              onChange={(event) => setDraft({ ...draft, states: event.target.value })}
            />
          )}
          {draft.part === PLAIN && <PlainNumber draft={draft} onChange={setDraft} />}
          <p className="col-span-2 flex gap-2">
            <button
              type="button"
              className="button"
              disabled={!ready}
              onClick={() => {
                onChange([...objects, draft]);
                setDraft(null);
              }}
            >
              Put it in
            </button>
            <button type="button" className="button" onClick={() => setDraft(null)}>
              Cancel
            </button>
          </p>
        </div>
      ) : (
        <button type="button" className="min-h-6 underline" onClick={() => setDraft(BLANK)}>
          Add an object
        </button>
      )}
    </fieldset>
  );
}

/** How the number of an object that is nothing in particular is understood. */
function PlainNumber({ draft, onChange }: { draft: Extra; onChange: (draft: Extra) => void }) {
  return (
    <>
      <Field
        label="Unit"
        maxLength={16}
        value={draft.unit}
        onChange={(event) => onChange({ ...draft, unit: event.target.value })}
      />
      <Field
        label="Times"
        hint="multiplier"
        type="number"
        step="any"
        value={draft.scale}
        onChange={(event) => onChange({ ...draft, scale: Number(event.target.value) })}
      />
      <div className="grid content-end">
        {(["counts", "text"] as const).map((name) => (
          <label key={name} className="flex min-h-6 gap-2">
            <input
              type="checkbox"
              checked={draft[name]}
              onChange={(event) => onChange({ ...draft, [name]: event.target.checked })}
            />
            {name === "counts" ? "a counter, kept per second" : "a number written as text"}
          </label>
        ))}
      </div>
    </>
  );
}

function objectWords({ part, counts, unit }: Schemas["ObjectIO"], kinds: OwnKind[]): string {
  if (part && part !== PLAIN) return kinds.find(({ name }) => name === part)?.words ?? part;
  return `${counts ? "counter" : "gauge"}${unit ? `, ${unit}` : ""}`;
}

/** What a device answers to the identifier just now. */
function ReadBack({ draft, onText }: { draft: Extra; onText: (text: boolean) => void }) {
  const { data: devices } = useQuery(devicesQuery(null, {}));
  const [chosen, setChosen] = useState(0);
  const device = chosen || devices?.rows.find((row) => row.reach === "answers")?.id || 0;
  const oid = useTyped(draft.oid.trim());
  const { data: seen, error } = useQuery({
    queryKey: ["objects", device, oid],
    queryFn: () => got(client.POST("/api/v1/objects/read", { body: { device, oid } })),
    enabled: device > 0 && /^\.?\d+(\.\d+){3,}$/.test(oid),
    retry: false,
    gcTime: 0,
  });
  const first = seen?.instances[0];
  const isText = first?.type === "OCTET STRING" && first.number !== null && !draft.text;
  return (
    <div className="col-span-2 grid gap-1">
      <label className="flex items-baseline gap-2 text-ink2">
        read back from
        <select className="field" value={device} onChange={(event) => setChosen(Number(event.target.value))}>
          {devices?.rows.map((row) => (
            <option key={row.id} value={row.id}>
              {row.name}
            </option>
          ))}
        </select>
      </label>
      <div className="figures text-small" aria-live="polite">
        {error && <p className="text-critical">{error.message}</p>}
        {seen?.fault && <p className="text-critical">{seen.fault}</p>}
        {seen?.instances.slice(0, 4).map((each) => (
          <p key={each.oid} className="truncate" title={each.oid}>
            <b className="font-medium">{each.value}</b>{" "}
            <span className="text-ink2">
              {each.type}
              {each.number !== null &&
                draft.scale !== 1 &&
                `, ${(each.number * draft.scale).toPrecision(4)} ${draft.unit}`}
              {seen.instances.length > 1 && ` at …${each.oid.slice(-12)}`}
            </span>
          </p>
        ))}
        {seen && (seen.more || seen.instances.length > 4) && (
          <p className="text-ink2">and more: every instance is read</p>
        )}
        {isText && (
          <button type="button" className="min-h-6 underline" onClick={() => onText(true)}>
            It is a number written as text
          </button>
        )}
      </div>
    </div>
  );
}
