import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { client, got, type Schemas } from "../../api/client";
import { findingsQuery } from "../../api/setupQueries";
import { moment } from "../../components/format";
import { Problem } from "../../components/Problem";

type Finding = Schemas["FindingOut"];
const NAMES: Record<string, string> = { hold: "awaiting review" };

/** What a sweep found, each box once; what is held can be decided here. */
export function Findings({ sweep }: { sweep: number }) {
  const [state, setState] = useState("");
  const { data, error } = useQuery(findingsQuery(sweep, state));
  if (!data) return <Problem error={error} />;
  const states = Object.entries(data.states);
  if (!state && data.total === 0) return <p className="py-1 text-ink2">No results yet.</p>;
  return (
    <section aria-label="Results">
      <p className="figures flex flex-wrap gap-3 py-1">
        {[["", states.slice(0, 4).reduce((sum, [, count]) => sum + count, 0)] as [string, number], ...states].map(
          ([name, count]) => (
            <button
              key={name}
              type="button"
              className={`min-h-6 ${state === name ? "marked" : "underline"}`}
              aria-pressed={state === name}
              onClick={() => setState(name)}
            >
              {NAMES[name] ?? (name || "all")} {count}
            </button>
          ),
        )}
      </p>
      <ul className="border-t border-rule">
        {data.rows.map((finding) => (
          <Row key={finding.id} finding={finding} />
        ))}
      </ul>
      {data.rows.length === 0 && <p className="py-1 text-ink2">None of it is {NAMES[state] ?? state}.</p>}
    </section>
  );
}

function Row({ finding }: { finding: Finding }) {
  const queries = useQueryClient();
  const decide = useMutation({
    mutationFn: (outcome: string) =>
      got(
        client.POST("/api/v1/findings/{finding}/decision", {
          params: { path: { finding: finding.id } },
          body: { outcome },
        }),
      ),
    onSuccess: () => queries.invalidateQueries(),
  });
  const others = Object.entries(finding.reasons).filter(([address]) => address !== finding.address);
  const what = [finding.maker, finding.model].filter(Boolean).join(" ") || finding.sys_descr;
  return (
    <li className="grid grid-cols-[64px_minmax(120px,0.6fr)_minmax(0,1.4fr)_92px] items-baseline gap-3 border-b border-faint py-1">
      <b className={finding.state === "lost" ? "font-semibold text-critical" : "font-semibold"}>{finding.state}</b>
      <span className="figures min-w-0">
        {finding.address}
        {others.map(([address, why]) => (
          <span key={address} className="block text-small text-ink2" title={why}>
            {address}: {why}
          </span>
        ))}
      </span>
      <span className="min-w-0">
        {finding.device_id ? (
          <Link className="underline" to={`/fleet/device/${finding.device_id}`}>
            {finding.device}
          </Link>
        ) : (
          finding.sys_name || "no name"
        )}{" "}
        <span className="text-ink2">
          {what}
          {what && " · "}answers {finding.answered.join(", ").toUpperCase()}
          {finding.ports > 0 && ` · ${finding.ports} interfaces`}
          {finding.lost_since && ` · lost since ${moment(new Date(finding.lost_since))}`}
        </span>
        <span className="block text-small text-ink2">
          {[finding.words, decidedWords(finding)].filter(Boolean).join(" · ")}
        </span>
        {decide.error && (
          <span role="alert" className="block text-critical">
            {decide.error.message}
          </span>
        )}
      </span>
      <span className="flex justify-end gap-3">
        {!finding.device_id &&
          finding.state !== "lost" &&
          (["add", finding.decision === "ignore" ? "hold" : "ignore"] as const).map((outcome) => (
            <button
              key={outcome}
              type="button"
              className="min-h-6 underline"
              aria-label={`${outcome} ${finding.address}`}
              disabled={decide.isPending}
              onClick={() => decide.mutate(outcome)}
            >
              {outcome}
            </button>
          ))}
      </span>
    </li>
  );
}

const VERBS: Record<string, string> = { add: "added", hold: "held", ignore: "ignored" };

function decidedWords({ decision, decided_by }: Finding): string {
  return decision && decided_by !== "no rule" ? `${VERBS[decision]} by ${decided_by}` : "";
}
