import { useMutation, useQueryClient } from "@tanstack/react-query";
import { client, got } from "../../api/client";
import { useMay } from "../../app/session";
import { SEVERITIES } from "../../components/severities";
import type { RuleOut } from "./ruleDraft";
import { limit } from "./ruleWords";

/** Subjects of a rule that are exempt or have limits of their own. */
export function RuleExceptions({ rule }: { rule: RuleOut }) {
  const queries = useQueryClient();
  const isEngineer = useMay()("engineer", true);
  const end = useMutation({
    mutationFn: (subject: number) =>
      got(client.DELETE("/api/v1/rules/{rule}/exceptions/{subject}", { params: { path: { rule: rule.id, subject } } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["rules"] }),
  });
  if (!rule.exceptions.length) return null;
  return (
    <>
      <h2 className="heading mt-3">Exceptions</h2>
      {rule.exceptions.map((each) => (
        <p key={each.subject} className="flex items-baseline gap-2 border-b border-dotted border-rule py-[3px]">
          <span className="min-w-0 flex-1">
            {each.label}{" "}
            <span className="text-small text-ink2">
              {each.levels.length
                ? each.levels
                    .map((level) => `${SEVERITIES[level.severity]?.word} ${limit(rule, level.limit)}`)
                    .join(", ")
                : "exempt"}
              {each.reason && `: ${each.reason}`} ({each.by})
            </span>
          </span>
          {isEngineer && (
            <button
              type="button"
              className="min-h-6 underline"
              disabled={end.isPending}
              onClick={() => end.mutate(each.subject)}
            >
              End
            </button>
          )}
        </p>
      ))}
    </>
  );
}

/** Makes an exception of one subject: it is exempt, or its present limits are raised by a quarter. */
export function MakeException({ rule, subject, label }: { rule: RuleOut; subject: number; label: string }) {
  const queries = useQueryClient();
  const make = useMutation({
    mutationFn: (levels: RuleOut["levels"]) =>
      got(
        client.PUT("/api/v1/rules/{rule}/exceptions/{subject}", {
          params: { path: { rule: rule.id, subject } },
          body: { levels, reason: "" },
        }),
      ),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["rules"] }),
  });
  if (rule.exceptions.some((each) => each.subject === subject))
    return <p className="py-1 text-ink2">{label} is an exception of the stored rule.</p>;
  const milder = rule.levels.map((level) => ({ ...level, limit: 1.25 * level.limit, clear: 1.25 * level.clear }));
  const isUpper = rule.direction === "above" && rule.levels.every(({ limit: each }) => each > 0);
  return (
    <p className="flex flex-wrap gap-3 py-1">
      <button type="button" className="min-h-6 underline" disabled={make.isPending} onClick={() => make.mutate([])}>
        Exempt {label}
      </button>
      {isUpper && (
        <button
          type="button"
          className="min-h-6 underline"
          disabled={make.isPending}
          onClick={() => make.mutate(milder)}
        >
          Raise its limits by a quarter
        </button>
      )}
      <span className="text-ink2">{make.error ? make.error.message : "of the stored rule, at once"}</span>
    </p>
  );
}
