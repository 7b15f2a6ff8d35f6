import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { client, got, type Schemas } from "../../api/client";
import { sitesQuery } from "../../api/queries";
import { admissionRulesQuery, credentialsQuery, profilesQuery } from "../../api/setupQueries";
import { Field, Labelled } from "../../components/Field";
import { FormFoot } from "../../components/FormFoot";
import { Problem } from "../../components/Problem";
import { useTyped } from "../../components/useTyped";
import { ConditionField } from "./ConditionField";
import { OrderedPage } from "./OrderedPage";
import { useKeeping } from "./useKeeping";
import { pieces, tagsOf, tagText } from "./words";

type Rules = Schemas["Admissions"];
type Rule = Rules["rows"][0];

const OUTCOMES: Record<string, string> = { add: "add it", hold: "hold it for a person", ignore: "ignore it" };

/** What becomes of what sweeps find: rules in their order, and what they would do with the last results. */
export function Admission() {
  const { data, error } = useQuery(admissionRulesQuery);
  const { data: plain } = useQuery({
    queryKey: [...admissionRulesQuery.queryKey, "dry"],
    queryFn: () => got(client.GET("/api/v1/admissionrules/dryrun", {})),
  });
  if (!data) return <Problem error={error} />;
  return (
    <OrderedPage
      title="Admission rules"
      words="What happens to a new device that a sweep found: the first matching rule from the top decides. If none matches, it awaits review."
      make="New rule"
      up="Decide earlier:"
      rows={data.rows}
      listed={admissionRulesQuery.queryKey}
      order={(ids) => got(client.PUT("/api/v1/admissionrules/order", { body: { ids } }))}
      form={(stored, onDone) => <RuleForm {...(stored ? { stored } : {})} rules={data} onDone={onDone} />}
      said={(row) => <p className="figures truncate text-small text-ink2">{row.condition || "everything"}</p>}
      aside={(row) => `${row.outcome}${row.site ? ` to ${row.site}` : ""}`}
      empty="No rules yet: everything found awaits review."
    >
      {plain && <DryRun outcome={plain} title="Dry run on the last results:" />}
    </OrderedPage>
  );
}

function RuleForm({ stored, rules, onDone }: { stored?: Rule; rules: Rules; onDone: () => void }) {
  const { data: sites } = useQuery(sitesQuery);
  const { data: profiles } = useQuery(profilesQuery);
  const { data: credentials } = useQuery(credentialsQuery);
  const [rule, setRule] = useState({
    name: stored?.name ?? "",
    condition: stored?.condition ?? "",
    outcome: stored?.outcome ?? "add",
    site: stored?.site ?? "",
    groups: stored?.groups.join("; ") ?? "",
    tags: tagText(stored?.tags ?? {}),
    profile: stored?.profile ?? 0,
    credential: stored?.credential ?? 0,
    interval: stored?.interval_s ? String(stored.interval_s) : "",
  });
  const { interval, ...rest } = rule;
  const draft = {
    ...rest,
    groups: pieces(rule.groups),
    tags: tagsOf(rule.tags),
    profile: rule.profile || null,
    credential: rule.credential || null,
    interval_s: interval ? Number(interval) : null,
  };
  const tried = useTyped(JSON.stringify({ ...draft, name: draft.name || "this rule", id: stored?.id ?? null }));
  const { data: outcome, error: wrong } = useQuery({
    queryKey: ["admissionrules", "try", tried],
    queryFn: () => got(client.POST("/api/v1/admissionrules/try", { body: JSON.parse(tried) })),
    retry: false,
    gcTime: 0,
  });
  const { submit, foot } = useKeeping({
    listed: admissionRulesQuery.queryKey,
    save: () => {
      if (!stored) return got(client.POST("/api/v1/admissionrules", { body: draft }));
      return got(
        client.PUT("/api/v1/admissionrules/{rule}", {
          params: { path: { rule: stored.id } },
          body: { ...draft, edition: stored.edition },
        }),
      );
    },
    remove:
      stored && (() => got(client.DELETE("/api/v1/admissionrules/{rule}", { params: { path: { rule: stored.id } } }))),
    onDone,
  });
  const set = (name: keyof typeof rule) => (event: { target: { value: string } }) =>
    setRule({ ...rule, [name]: event.target.value });
  return (
    <form onSubmit={submit} className="grid grid-cols-2 gap-x-3 gap-y-2">
      <h2 className="heading col-span-2">{stored ? `Change ${stored.name}` : "A new rule, tried last"}</h2>
      <Field label="Name" required wide maxLength={80} value={rule.name} onChange={set("name")} />
      <ConditionField
        value={rule.condition}
        onChange={(condition) => setRule({ ...rule, condition })}
        fields={rules.fields}
        example={'address in 10.20.0.0/22 and sys_descr like "*switch*"'}
        problem={wrong?.message}
      />
      <fieldset className="col-span-2 flex flex-wrap gap-x-4">
        <legend className="sr-only">Action</legend>
        {rules.outcomes.map((outcome) => (
          <label key={outcome} className="flex min-h-6 gap-1.5">
            <input
              type="radio"
              name="outcome"
              checked={rule.outcome === outcome}
              onChange={() => setRule({ ...rule, outcome })}
            />
            {OUTCOMES[outcome]}
          </label>
        ))}
      </fieldset>
      {rule.outcome === "add" && (
        <>
          <Field label="Site" hint="empty: the sweep's" list="rule-sites" value={rule.site} onChange={set("site")} />
          <datalist id="rule-sites">
            {sites?.map((site) => site.name && <option key={site.name} value={site.name} />)}
          </datalist>
          <Field
            label="Interval (s)"
            hint="or the profile's"
            type="number"
            min={10}
            max={86400}
            value={rule.interval}
            onChange={set("interval")}
          />
          <Numbered
            label="Profile"
            none="the one that fits"
            rows={profiles?.rows}
            value={rule.profile}
            onChange={(profile) => setRule({ ...rule, profile })}
          />
          <Numbered
            label="Credential"
            none="the one it answered to"
            rows={credentials?.rows}
            value={rule.credential}
            onChange={(credential) => setRule({ ...rule, credential })}
          />
          <Field label="Groups" hint="separated by semicolons" value={rule.groups} onChange={set("groups")} />
          <Field label="Tags" hint="key=value; key=value" value={rule.tags} onChange={set("tags")} />
        </>
      )}
      {outcome && !wrong && (
        <div className="col-span-2">
          <DryRun outcome={outcome} title="Dry run on the last results:" brief />
        </div>
      )}
      <FormFoot {...foot} />
    </form>
  );
}

type NumberedProps = {
  label: string;
  none: string;
  rows: { id: number; name: string }[] | undefined;
  value: number;
  onChange: (id: number) => void;
};

function Numbered({ label, none, rows, value, onChange }: NumberedProps) {
  return (
    <Labelled label={label}>
      <select className="field min-w-0" value={value} onChange={(event) => onChange(Number(event.target.value))}>
        <option value={0}>{none}</option>
        {rows?.map((row) => (
          <option key={row.id} value={row.id}>
            {row.name}
          </option>
        ))}
      </select>
    </Labelled>
  );
}

/** What the rules would do with what the sweeps found last. */
function DryRun({ outcome, title, brief = false }: { outcome: Schemas["DryRun"]; title: string; brief?: boolean }) {
  const counts = Object.entries(outcome.counts).filter(([, count]) => count > 0);
  if (outcome.rows.length === 0)
    return <p className="mt-3 text-ink2">There are no sweep results to try the rules on yet.</p>;
  const shown = brief ? outcome.rows.slice(0, 8) : outcome.rows;
  return (
    <section className={brief ? "" : "mt-4"} aria-live="polite">
      <p>
        {title} {counts.map(([outcome, count]) => `${outcome} ${count}`).join(", ")}:
      </p>
      <ul className="figures text-small">
        {shown.map((row) => (
          <li key={row.id} className="grid grid-cols-[52px_minmax(0,1fr)] gap-2 border-b border-faint py-[3px]">
            <b className="font-semibold">{row.outcome}</b>
            <span className="truncate">
              {row.name || row.address}{" "}
              <span className="text-ink2">
                {row.address} · {row.rule}
                {row.device && (row.device === row.name ? " · is a device already" : ` · is ${row.device} already`)}
              </span>
            </span>
          </li>
        ))}
      </ul>
      {shown.length < outcome.rows.length && <p className="text-ink2">and {outcome.rows.length - shown.length} more</p>}
    </section>
  );
}
