import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "react-router";
import { client, got, type Schemas } from "../../api/client";
import { consequencesQuery } from "../../api/queries";
import { useScreenTime, useTimeSearch } from "../../app/screenTime";
import { useMay } from "../../app/session";
import { counted } from "../../components/format";
import { Severity } from "../../components/Severity";

type Row = Schemas["AlarmRow"];

/** What an alarm follows from, with the reason, which can be overruled; and what follows from it. */
export function Causality({ row }: { row: Row }) {
  const time = useScreenTime();
  const keep = useTimeSearch();
  const queries = useQueryClient();
  const may = useMay();
  const overrule = useMutation({
    mutationFn: () => got(client.POST("/api/v1/alarms/{alarm}/overrule", { params: { path: { alarm: row.id } } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["alarms"] }),
  });
  return (
    <>
      {row.raised_lately > 1 && (
        <p>
          Raised {row.raised_lately} times within an hour
          {row.raised_lately >= 5 && ": it flaps, and is called for once it stays active for 10 minutes"}.
        </p>
      )}
      {row.cause_id !== null && (
        <p>
          Nobody is called: it follows from{" "}
          <Link className="underline" to={`/alarms/${row.cause_id}${keep()}`}>
            another alarm
          </Link>
          . {row.cause_reason}.{" "}
          {time.following && may("operator") && (
            <button
              type="button"
              className="min-h-6 underline"
              disabled={overrule.isPending}
              onClick={() => overrule.mutate()}
            >
              It does not
            </button>
          )}
          {overrule.error && <span className="text-critical"> {overrule.error.message}</span>}
        </p>
      )}
      {row.consequences > 0 && (
        <details open>
          <summary className="min-h-6">{counted(row.consequences, "consequence")}, for which nobody is called</summary>
          <Consequences cause={row.id} />
        </details>
      )}
    </>
  );
}

/** The alarms that follow from one, each with its reason. */
export function Consequences({ cause }: { cause: number }) {
  const time = useScreenTime();
  const keep = useTimeSearch();
  const { data } = useQuery(consequencesQuery(cause, time.at));
  return (
    <ul>
      {data?.rows.map((each) => (
        <li key={each.id} className="border-b border-dotted border-rule py-[3px] text-small">
          <Link className="flex items-center gap-2 hover:underline" to={`/alarms/${each.id}${keep()}`}>
            <Severity level={each.severity} />
            <span className="min-w-0 truncate">
              {each.label} <span className="text-ink2">{each.text}</span>
            </span>
          </Link>
          <span className="block pl-[22px] text-ink2">{each.cause_reason}</span>
        </li>
      ))}
    </ul>
  );
}
