import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import {
  declareResponseField,
  deleteResponseField,
  type ResponseFieldBody,
  responseFieldsQuery,
} from "../../api/trafficQueries";
import { Field, Labelled } from "../../components/Field";
import { Problem } from "../../components/Problem";

const PARTS: [ResponseFieldBody["part"], string][] = [
  ["network", "round trip between client and server"],
  ["client_side", "round trip between client and exporter"],
  ["server_side", "round trip between exporter and server"],
  ["server", "time of the server for an answer"],
  ["responses", "number of answers that the others are sums of"],
];
const UNITS = ["ns", "µs", "ms", "s"] as const;
const BLANK = { enterprise: "", element: "", part: PARTS[0]?.[0] ?? "network", unit: "µs" as (typeof UNITS)[number] };
const called = (enterprise: number, element: number) =>
  enterprise ? `element ${element} of enterprise ${enterprise}` : `element ${element}`;

/** Which fields of exporters tell of response times: no standard says so. */
export function ResponseFields() {
  const queries = useQueryClient();
  const { data, error } = useQuery(responseFieldsQuery);
  const [draft, setDraft] = useState(BLANK);
  const change = (changed: Partial<typeof BLANK>) => setDraft({ ...draft, ...changed });
  const onSuccess = () => void queries.invalidateQueries({ queryKey: responseFieldsQuery.queryKey });
  const declare = useMutation({
    mutationFn: () =>
      declareResponseField({ ...draft, enterprise: Number(draft.enterprise || 0), element: Number(draft.element) }),
    onSuccess: () => {
      setDraft(BLANK);
      onSuccess();
    },
  });
  const remove = useMutation({ mutationFn: deleteResponseField, onSuccess });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    declare.mutate();
  };
  return (
    <section aria-label="Response times" className="mt-4">
      <h2 className="heading">Response times</h2>
      <p className="max-w-[640px] text-small text-ink2">
        Exporters that measure response times send them in fields of their own. What is declared here is read from now
        on, and shown under Traffic, response times.
      </p>
      <Problem error={error ?? remove.error} />
      {data?.rows.length === 0 && <p className="py-1 text-ink2">No field is declared yet.</p>}
      <ul>
        {data?.rows.map((row) => (
          <li key={row.id} className="flex flex-wrap gap-x-3 border-b border-faint py-1">
            <b className="font-medium">{called(row.enterprise ?? 0, row.element)}</b>
            <span className="text-ink2">
              {PARTS.find(([part]) => part === row.part)?.[1]}
              {row.part !== "responses" && `, in ${row.unit}`}
            </span>
            <button type="button" className="ml-auto underline" onClick={() => remove.mutate(row.id)}>
              read it no longer
            </button>
          </li>
        ))}
      </ul>
      {data && data.unknown.length > 0 && (
        <p className="py-1 text-small text-ink2">
          Fields that exporters send and nobody declared:{" "}
          {data.unknown.map((each) => (
            <button
              key={`${each.enterprise} ${each.element} ${each.length}`}
              type="button"
              className="mr-2 underline"
              title={`${each.length ? `${each.length} octets` : "of any length"}, from ${each.exporters.join(", ")}`}
              onClick={() => change({ enterprise: String(each.enterprise), element: String(each.element) })}
            >
              {called(each.enterprise, each.element)}
            </button>
          ))}
        </p>
      )}
      <form
        onSubmit={submit}
        className="mt-1 grid grid-cols-[220px_120px_minmax(0,1fr)_90px_auto] items-end gap-2 max-md:grid-cols-2"
      >
        <Field
          label="Enterprise"
          hint="none in NetFlow 9"
          inputMode="numeric"
          placeholder="32473"
          value={draft.enterprise}
          onChange={(event) => change({ enterprise: event.target.value })}
        />
        <Field
          label="Element"
          required
          inputMode="numeric"
          value={draft.element}
          onChange={(event) => change({ element: event.target.value })}
        />
        <Labelled label="What it tells">
          <select
            className="field"
            value={draft.part}
            onChange={(event) => change({ part: event.target.value as ResponseFieldBody["part"] })}
          >
            {PARTS.map(([part, words]) => (
              <option key={part} value={part}>
                {words}
              </option>
            ))}
          </select>
        </Labelled>
        <Labelled label="Unit">
          <select
            className="field"
            value={draft.unit}
            disabled={draft.part === "responses"}
            onChange={(event) => change({ unit: event.target.value as (typeof UNITS)[number] })}
          >
            {UNITS.map((unit) => (
              <option key={unit}>{unit}</option>
            ))}
          </select>
        </Labelled>
        <button type="submit" className="button" disabled={!draft.element.trim() || declare.isPending}>
          Declare it
        </button>
      </form>
      <Problem error={declare.error} />
    </section>
  );
}
