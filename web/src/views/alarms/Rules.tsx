import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { rulesQuery, vocabularyQuery } from "../../api/queries";
import { useTimeSearch } from "../../app/screenTime";
import { useMay } from "../../app/session";
import { Problem } from "../../components/Problem";
import { says } from "./ruleWords";

/** The rules: what is watched, when it becomes an alarm, and who is called; and those that are recommended. */
export function Rules() {
  const { data: rules, error } = useQuery(rulesQuery);
  const keep = useTimeSearch();
  const isEngineer = useMay()("engineer", true);
  return (
    <>
      <h2 className="heading">
        Rules
        {isEngineer && (
          <Link to={`/alarms/rules/new${keep()}`} className="ml-auto font-normal underline">
            New rule
          </Link>
        )}
      </h2>
      <Problem error={error} />
      {rules?.map((rule) => (
        <section key={rule.id} className="border-b border-faint py-2">
          <h3 className="font-semibold">
            <Link to={`/alarms/rules/${rule.id}${keep()}`} className="underline decoration-rule hover:decoration-ink">
              {rule.name}
            </Link>
            {!rule.enabled && <span className="font-normal text-critical"> switched off</span>}
          </h3>
          <p className="text-ink2">{says(rule).what}</p>
          {says(rule).levels.map((level) => (
            <p key={level} className="text-ink2">
              {level}
            </p>
          ))}
          <p>
            {rule.plan ? (
              <span className="text-ink2">Calls by the plan {rule.plan}.</span>
            ) : (
              <span className="text-critical">Nobody is called: it has no call plan.</span>
            )}
          </p>
        </section>
      ))}
      {isEngineer && <Recommended />}
    </>
  );
}

function Recommended() {
  const { data: words } = useQuery(vocabularyQuery);
  const keep = useTimeSearch();
  const missing = words?.ready.filter(({ is_there }) => !is_there) ?? [];
  if (!missing.length) return null;
  return (
    <>
      <h2 className="heading mt-4">
        Recommended <span className="font-normal text-ink2">rehearse one, then create it</span>
      </h2>
      {missing.map((each) => (
        <p key={each.name} className="border-b border-dotted border-rule py-1">
          <Link to={`/alarms/rules/new${keep({ ready: each.name })}`} className="underline">
            {each.name}
          </Link>{" "}
          <span className="text-small text-ink2">{each.why}</span>
        </p>
      ))}
    </>
  );
}
