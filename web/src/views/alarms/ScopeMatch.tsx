import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { client, got, type Schemas } from "../../api/client";
import { useTyped } from "../../components/useTyped";
import { SUBJECTS } from "./ruleWords";

type Props = { kind: string; scope: string; fields: Schemas["ConditionField"][] };

/** What a rule's condition holds for now, and what can be asked in it. */
export function ScopeMatch({ kind, scope, fields }: Props) {
  const typed = useTyped(scope);
  const { data, error } = useQuery({
    queryKey: ["rules", "match", kind, typed],
    queryFn: () => got(client.POST("/api/v1/rules/match", { body: { kind, scope: typed } })),
    placeholderData: keepPreviousData,
    retry: false,
    gcTime: 0,
  });
  return (
    <details className="mb-1">
      <summary className="min-h-6 text-ink2" aria-live="polite">
        {error ? (
          <span className="text-critical">{error.message}</span>
        ) : data ? (
          <>
            Applies to{" "}
            <b className={`font-semibold ${data.subjects ? "text-ink" : "text-critical"}`}>
              {data.subjects ? data.subjects.toLocaleString("en-GB") : "no"} {SUBJECTS[kind]}
            </b>{" "}
            now
          </>
        ) : (
          "Loading …"
        )}
      </summary>
      {data && data.examples.length > 0 && (
        <p className="text-small text-ink2">
          {data.examples.map(({ device, label }) => `${device} ${label}`.trim()).join(", ")}
          {data.subjects > data.examples.length && " and more"}
        </p>
      )}
      <dl className="grid grid-cols-[96px_minmax(0,1fr)] text-small">
        {fields.map((field) => (
          <div key={field.name} className="contents">
            <dt>{field.name}</dt>
            <dd className="text-ink2">
              {field.verbs.join(", ")}: {field.meaning}
            </dd>
          </div>
        ))}
      </dl>
    </details>
  );
}
