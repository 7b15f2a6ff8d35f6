import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { rulesQuery } from "../../api/queries";
import { useMay } from "../../app/session";
import { Problem } from "../../components/Problem";
import { RuleForm } from "./RuleForm";
import { says } from "./ruleWords";

/** The rules: what is watched, when it becomes an alarm, and who is notified. */
export function Rules() {
  const { data: rules, error } = useQuery(rulesQuery);
  const [editing, setEditing] = useState<number | null>(null);
  const may = useMay();
  return (
    <>
      <h2 className="heading">Rules</h2>
      <Problem error={error} />
      {rules?.map((rule) => (
        <section key={rule.id} className="border-b border-faint py-2">
          <h3 className="flex items-center gap-2 font-semibold">
            {rule.name}
            {!rule.enabled && <span className="font-normal text-critical">switched off</span>}
            {may("engineer", true) && (
              <button
                type="button"
                className="ml-auto font-normal underline"
                aria-label={editing === rule.id ? "Cancel" : `Edit ${rule.name}`}
                onClick={() => setEditing(editing === rule.id ? null : rule.id)}
              >
                {editing === rule.id ? "Cancel" : "Edit"}
              </button>
            )}
          </h3>
          <p className="text-ink2">{says(rule).what}</p>
          {says(rule).levels.map((level) => (
            <p key={level} className="text-ink2">
              {level}
            </p>
          ))}
          <p>
            {rule.mail_to.length ? (
              <span className="text-ink2">
                Mail to {rule.mail_to.join(", ")}, when it is raised, changes or is cleared.
              </span>
            ) : (
              <span className="text-critical">Nobody is notified: no address is set.</span>
            )}
          </p>
          {editing === rule.id && <RuleForm rule={rule} onDone={() => setEditing(null)} />}
        </section>
      ))}
    </>
  );
}
