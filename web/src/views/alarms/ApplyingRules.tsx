import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { applyingQuery } from "../../api/queries";
import { useTimeSearch } from "../../app/screenTime";
import { says } from "./ruleWords";

/** The rules that apply to a port, or to a device and its components, with their limits; that nobody is called stands out. */
export function ApplyingRules({ only }: { only: { interface?: number; device?: number } }) {
  const { data: rules } = useQuery(applyingQuery(only));
  const keep = useTimeSearch();
  if (!rules) return null;
  return (
    <>
      <h2 className="heading mt-3">Rules</h2>
      {rules.length === 0 && <p className="text-ink2">No rule applies here: nothing of it becomes an alarm.</p>}
      {rules.map((rule) => (
        <p key={rule.id} className="border-b border-dotted border-rule py-[3px] text-small">
          <Link className="font-medium underline" to={`/alarms/rules/${rule.id}${keep()}`}>
            {rule.name}
          </Link>{" "}
          <span className="text-ink2">
            {says(rule).levels.join("; ") || says(rule).what}
            {rule.scope && `; applies since ${rule.scope}`}
            {rule.exceptions.some(({ subject }) => subject === only.interface || subject === only.device) &&
              "; an exception is made here"}
          </span>
          {!rule.plan && <span className="text-critical"> calls nobody</span>}
        </p>
      ))}
    </>
  );
}
