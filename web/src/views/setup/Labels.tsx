import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { client, got, type Schemas } from "../../api/client";
import { labelRulesQuery } from "../../api/setupQueries";
import { Choice, Field } from "../../components/Field";
import { FormFoot } from "../../components/FormFoot";
import { Problem } from "../../components/Problem";
import { useTyped } from "../../components/useTyped";
import { ConditionField } from "./ConditionField";
import { OrderedPage } from "./OrderedPage";
import { useKeeping } from "./useKeeping";
import { tagsOf, tagText } from "./words";

type Rules = Schemas["LabelRulesOut"];
type Rule = Rules["rows"][0];

/** Rules that say what ports are called and are for; the first that holds decides. */
export function Labels() {
  const { data, error } = useQuery(labelRulesQuery);
  if (!data) return <Problem error={error} />;
  return (
    <OrderedPage
      title="Port labels and roles"
      words="The first matching rule from the top decides a port’s role, and each of its tags. Ports with the role access or unused are drawn, but their ups, downs and speeds are not news."
      make="New rule"
      up="Decide earlier:"
      rows={data.rows}
      listed={labelRulesQuery.queryKey}
      order={(ids) => got(client.PUT("/api/v1/labelrules/order", { body: { ids } }))}
      form={(stored, onDone) => <RuleForm {...(stored ? { stored } : {})} rules={data} onDone={onDone} />}
      said={(row) => <p className="figures truncate text-small text-ink2">{row.condition || "every port"}</p>}
      aside={(row) => [row.role, row.template, tagText(row.tags)].filter(Boolean).join(", ")}
      empty="No rules yet: all ports are treated alike."
    />
  );
}

function RuleForm({ stored, rules, onDone }: { stored?: Rule; rules: Rules; onDone: () => void }) {
  const [rule, setRule] = useState({
    name: stored?.name ?? "",
    condition: stored?.condition ?? "",
    role: stored?.role ?? "",
    template: stored?.template ?? "",
    tags: tagText(stored?.tags ?? {}),
  });
  const draft = { ...rule, name: rule.name || "new", tags: tagsOf(rule.tags) };
  const tried = useTyped(JSON.stringify({ ...draft, id: stored?.id ?? 0 }));
  const decides = Boolean(rule.role || rule.template || rule.tags);
  const { data: effect, error: wrong } = useQuery({
    queryKey: ["labelrules", "try", tried],
    queryFn: () => got(client.POST("/api/v1/labelrules/try", { body: JSON.parse(tried) })),
    enabled: decides,
    retry: false,
    gcTime: 0,
  });
  const { submit, foot } = useKeeping({
    listed: labelRulesQuery.queryKey,
    save: () => {
      const body = { ...draft, name: rule.name };
      if (!stored) return got(client.POST("/api/v1/labelrules", { body }));
      return got(
        client.PUT("/api/v1/labelrules/{rule}", {
          params: { path: { rule: stored.id } },
          body: { ...body, edition: stored.edition },
        }),
      );
    },
    remove:
      stored && (() => got(client.DELETE("/api/v1/labelrules/{rule}", { params: { path: { rule: stored.id } } }))),
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
        example={'label like ("uplink*", "to *") and speed >= 1G'}
        problem={wrong?.message}
      />
      <Choice label="Role" options={["", ...rules.roles]} value={rule.role} onChange={set("role")} />
      <Field
        label="Label"
        hint="a template"
        placeholder={rules.usual}
        maxLength={120}
        value={rule.template}
        onChange={set("template")}
      />
      <Field label="Tags" hint="key=value; key=value" wide value={rule.tags} onChange={set("tags")} />
      <Effect effect={decides && !wrong ? effect : undefined} decides={decides} />
      <FormFoot {...foot} />
    </form>
  );
}

/** What the rule would do, before it is saved. */
function Effect({ effect, decides }: { effect: Schemas["EffectOut"] | undefined; decides: boolean }) {
  if (!decides) return <p className="col-span-2 text-ink2">Set a role, a label or a tag to see the effect.</p>;
  if (!effect) return null;
  return (
    <div className="col-span-2" aria-live="polite">
      <p>
        <b className="font-semibold">{effect.matched.toLocaleString("en")}</b>{" "}
        {effect.matched === 1 ? "port meets" : "ports meet"} the condition,{" "}
        <b className="font-semibold">{effect.changed.toLocaleString("en")}</b> would change
        {effect.examples.length ? ":" : "."}
      </p>
      <ul className="figures text-small">
        {effect.examples.map((each) => (
          <li key={`${each.device} ${each.label}`} className="truncate text-ink2">
            {each.device} {each.label}
            {each.label_then !== each.label && ` → ${each.label_then}`}: {each.role_then || "no role"}
          </li>
        ))}
      </ul>
    </div>
  );
}
