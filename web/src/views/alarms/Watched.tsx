import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { client, got, type Schemas } from "../../api/client";
import { rulesQuery } from "../../api/queries";
import { useMay } from "../../app/session";
import { Problem } from "../../parts/Problem";
import { Severity } from "../../parts/Severity";
import { SEVERITIES } from "../../parts/severities";

type Rule = Schemas["RuleOut"];

function says(rule: Rule): string {
  const times = rule.readings === 1 ? "one" : String(rule.readings);
  if (rule.type === "lumtar")
    return "What Lumtar itself does not do: a service that ended, readings that are not stored, sums behind, jobs stuck, a full disk, a clock that was set.";
  if (rule.type === "unreachable") return `A device that gives no answer in ${times} polls in a row.`;
  return `A port above ${rule.limit_percent} % of its speed for ${times} readings in a row; cleared below ${rule.clear_percent} %.`;
}

/** What is watched, when it becomes an alarm, and who is told. */
export function Watched() {
  const { data: rules, error } = useQuery(rulesQuery);
  const [editing, setEditing] = useState<number | null>(null);
  const may = useMay();
  return (
    <>
      <h2 className="heading">What is watched</h2>
      <Problem error={error} />
      {rules?.map((rule) => (
        <section key={rule.id} className="border-b border-faint py-2">
          <h3 className="flex items-center gap-2 font-semibold">
            <Severity level={rule.severity} /> {rule.name}
            {!rule.enabled && <span className="font-normal text-critical">switched off</span>}
            {may("engineer", true) && (
              <button
                type="button"
                className="ml-auto font-normal underline"
                onClick={() => setEditing(editing === rule.id ? null : rule.id)}
              >
                {editing === rule.id ? "leave it" : "change"}
              </button>
            )}
          </h3>
          <p className="text-ink2">{says(rule)}</p>
          <p>
            {rule.mail_to.length ? (
              <span className="text-ink2">
                By mail to {rule.mail_to.join(", ")}, when it is raised and when it is cleared.
              </span>
            ) : (
              <span className="text-critical">Nobody is told: no address is set.</span>
            )}
          </p>
          {editing === rule.id && <RuleForm rule={rule} onDone={() => setEditing(null)} />}
        </section>
      ))}
    </>
  );
}

function RuleForm({ rule, onDone }: { rule: Rule; onDone: () => void }) {
  const queries = useQueryClient();
  const save = useMutation({
    mutationFn: (form: FormData) => {
      const number = (name: string) => Number(form.get(name));
      const limits =
        rule.type !== "utilisation" ? {} : { limit_percent: number("limit"), clear_percent: number("clear") };
      const mail_to = String(form.get("mail_to"))
        .split(/[\s,;]+/)
        .filter(Boolean);
      const own = rule.type === "lumtar" ? {} : { readings: number("readings"), severity: number("severity") };
      const body = {
        ...limits,
        ...own,
        enabled: form.get("enabled") === "on",
        mail_to,
      };
      return got(client.PATCH("/api/v1/rules/{rule}", { params: { path: { rule: rule.id } }, body }));
    },
    onSuccess: () => {
      void queries.invalidateQueries({ queryKey: rulesQuery.queryKey });
      onDone();
    },
  });
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    save.mutate(new FormData(event.currentTarget));
  };
  return (
    <form onSubmit={submit} className="mt-2 grid grid-cols-2 gap-x-3 gap-y-2">
      {rule.type === "utilisation" && (
        <>
          <label className="grid gap-1">
            Raise above, %
            <input
              name="limit"
              type="number"
              step="any"
              min="1"
              className="field"
              defaultValue={rule.limit_percent}
              required
            />
          </label>
          <label className="grid gap-1">
            Clear below, %
            <input
              name="clear"
              type="number"
              step="any"
              min="0"
              className="field"
              defaultValue={rule.clear_percent}
              required
            />
          </label>
        </>
      )}
      {rule.type !== "lumtar" && (
        <>
          <label className="grid gap-1">
            {rule.type === "unreachable" ? "Polls in a row" : "Readings in a row"}
            <input
              name="readings"
              type="number"
              min="1"
              max="1000"
              className="field"
              defaultValue={rule.readings}
              required
            />
          </label>
          <label className="grid gap-1">
            Severity
            <select name="severity" className="field" defaultValue={rule.severity}>
              {[5, 4, 3, 2, 1].map((level) => (
                <option key={level} value={level}>
                  {SEVERITIES[level]?.word}
                </option>
              ))}
            </select>
          </label>
        </>
      )}
      <label className="col-span-2 grid gap-1">
        Mail to
        <input
          name="mail_to"
          className="field"
          defaultValue={rule.mail_to.join(", ")}
          placeholder="addresses, separated by commas"
        />
      </label>
      <label className="col-span-2 flex gap-2">
        <input name="enabled" type="checkbox" defaultChecked={rule.enabled} /> switched on
      </label>
      <p role="alert" className="col-span-2 text-critical">
        {save.error?.message}
      </p>
      <button type="submit" className="button justify-self-start" disabled={save.isPending}>
        Save
      </button>
    </form>
  );
}
