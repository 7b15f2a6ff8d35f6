import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import {
  type DeclaredFieldBody,
  declaredFieldsQuery,
  declareField,
  deleteDeclaredField,
} from "../../api/trafficQueries";
import { Field, Labelled } from "../../components/Field";
import { Problem } from "../../components/Problem";

const PARTS: [DeclaredFieldBody["part"], string][] = [
  ["network", "round trip between client and server"],
  ["client_side", "round trip between client and exporter"],
  ["server_side", "round trip between exporter and server"],
  ["server", "time of the server for an answer"],
  ["responses", "number of answers that the others are sums of"],
  ["server_name", "name of the server that a client asked for (TLS, HTTP)"],
];
const isTime = (part: string) => part !== "responses" && part !== "server_name";
const UNITS = ["ns", "µs", "ms", "s"] as const;
const BLANK = { enterprise: "", element: "", part: PARTS[0]?.[0] ?? "network", unit: "µs" as (typeof UNITS)[number] };
const called = (enterprise: number, element: number) =>
  enterprise ? `element ${element} of enterprise ${enterprise}` : `element ${element}`;

/** What fields of exporters tell that no standard defines: response times, names of servers. */
export function DeclaredFields() {
  const queries = useQueryClient();
  const { data, error } = useQuery(declaredFieldsQuery);
  const [draft, setDraft] = useState(BLANK);
  const change = (changed: Partial<typeof BLANK>) => setDraft({ ...draft, ...changed });
  const onSuccess = () => void queries.invalidateQueries({ queryKey: declaredFieldsQuery.queryKey });
  const declare = useMutation({
    mutationFn: () =>
      declareField({ ...draft, enterprise: Number(draft.enterprise || 0), element: Number(draft.element) }),
    onSuccess: () => {
      setDraft(BLANK);
      onSuccess();
    },
  });
  const remove = useMutation({ mutationFn: deleteDeclaredField, onSuccess });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    declare.mutate();
  };
  return (
    <section aria-label="Fields of records" className="mt-4">
      <h2 className="heading">Fields of records</h2>
      <p className="max-w-[640px] text-small text-ink2">
        No standard has fields for response times and for the names that clients ask for in TLS; exporters send them in
        fields of their own. What is declared here is read from now on: times under Traffic, response times; names by
        applications that are known by them, as the Host of HTTP is.
      </p>
      <Problem error={error ?? remove.error} />
      {data?.rows.length === 0 && <p className="py-1 text-ink2">No field is declared yet.</p>}
      <ul>
        {data?.rows.map((row) => (
          <li key={row.id} className="flex flex-wrap gap-x-3 border-b border-faint py-1">
            <b className="font-medium">{called(row.enterprise ?? 0, row.element)}</b>
            <span className="text-ink2">
              {PARTS.find(([part]) => part === row.part)?.[1]}
              {isTime(row.part) && `, in ${row.unit}`}
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
            className="field min-w-0"
            value={draft.part}
            onChange={(event) => change({ part: event.target.value as DeclaredFieldBody["part"] })}
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
            className="field min-w-0"
            value={draft.unit}
            disabled={!isTime(draft.part)}
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
