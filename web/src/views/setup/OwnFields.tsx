import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { client, got } from "../../api/client";
import { ownFieldsQuery } from "../../api/setupQueries";
import { Choice, Field } from "../../components/Field";
import { Problem } from "../../components/Problem";

const KINDS = ["text", "number", "date", "choice"] as const;

/** Fields that this installation adds to its devices: in their form, in lists and in the inventory. */
export function OwnFields() {
  const { data: fields, error } = useQuery(ownFieldsQuery);
  const [kind, setKind] = useState<string>("text");
  const [doomed, setDoomed] = useState<number | null>(null);
  const queries = useQueryClient();
  const renew = () => void queries.invalidateQueries();
  const make = useMutation({
    mutationFn: (form: FormData) =>
      got(
        client.POST("/api/v1/ownfields", {
          body: { name: String(form.get("name")), kind, choices: String(form.get("choices") ?? "").split(";") },
        }),
      ),
    onSuccess: renew,
  });
  const remove = useMutation({
    mutationFn: (field: number) => got(client.DELETE("/api/v1/ownfields/{field}", { params: { path: { field } } })),
    onSuccess: renew,
  });
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = event.currentTarget;
    make.mutate(new FormData(form), { onSuccess: () => form.reset() });
  };
  return (
    <div className="grid grid-cols-[minmax(0,1fr)_330px] gap-8 max-lg:grid-cols-1">
      <div>
        <h1 className="text-title font-semibold tracking-tight">Own fields</h1>
        <p className="mb-2 text-ink2">
          What you want to keep of every device: a rack, a contract, a date. They stand in each device's form, in lists
          to add, in the inventory and its CSV.
        </p>
        <Problem error={error ?? remove.error} />
        <ul className="border-t border-rule">
          {fields?.map((field) => (
            <li key={field.id} className="grid grid-cols-[160px_minmax(0,1fr)_auto] gap-3 border-b border-faint py-1.5">
              <b className="truncate font-medium">{field.name}</b>
              <span className="text-ink2">
                {field.kind === "choice" ? `one of ${field.choices?.join(", ")}` : field.kind}
              </span>
              {doomed === field.id ? (
                <span className="flex gap-3">
                  What it holds at every device goes with it.
                  <button type="button" className="text-critical underline" onClick={() => remove.mutate(field.id)}>
                    Delete it
                  </button>
                  <button type="button" className="underline" onClick={() => setDoomed(null)}>
                    Cancel
                  </button>
                </span>
              ) : (
                <button
                  type="button"
                  className="underline"
                  aria-label={`Delete ${field.name}`}
                  onClick={() => setDoomed(field.id)}
                >
                  Delete
                </button>
              )}
            </li>
          ))}
        </ul>
        {fields?.length === 0 && <p className="py-2">None yet. Create the first one on the right.</p>}
      </div>
      <form onSubmit={submit} className="grid grid-cols-[1fr_110px] content-start gap-x-3 gap-y-2">
        <h2 className="heading col-span-2">A new field</h2>
        <Field name="name" label="Name" required maxLength={60} />
        <Choice
          name="kind"
          label="Type"
          options={KINDS}
          value={kind}
          onChange={(event) => setKind(event.target.value)}
        />
        {kind === "choice" && <Field name="choices" label="Values" hint="separated by semicolons" required wide />}
        <p role="alert" className="col-span-2 text-critical">
          {make.error?.message}
        </p>
        <p className="col-span-2">
          <button type="submit" className="button" disabled={make.isPending}>
            Add field
          </button>
        </p>
      </form>
    </div>
  );
}
