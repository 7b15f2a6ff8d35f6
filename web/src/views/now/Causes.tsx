import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { useTimeSearch } from "../../app/screenTime";
import { counted, duration } from "../../components/format";
import { Severity } from "../../components/Severity";
import { Spark } from "../../components/Spark";

const SHOWN = 7;

/** Open alarms, worst first: what it is, a line of its measure, its age, and who was called. */
export function Causes({ causes, active, at }: { causes: Schemas["CauseOut"][]; active: number; at: Date }) {
  const search = useTimeSearch();
  return (
    <>
      <h2 className="heading">
        Active alarms <span className="font-normal text-ink2">{active || ""}</span>
        {causes.length > 1 && <span className="ml-auto font-normal text-ink2">worst first</span>}
      </h2>
      {causes.length === 0 && <p className="py-1 text-ink2">No active alarms.</p>}
      {causes.slice(0, SHOWN).map(({ row, spark }) => (
        <Link
          key={row.id}
          data-row
          to={`/alarms/${row.id}${search()}`}
          className="-mx-1.5 grid grid-cols-[20px_minmax(0,1fr)_96px_56px_120px] items-center max-md:grid-cols-[20px_minmax(0,1fr)_auto] gap-2.5 border-b border-faint px-1.5 py-[5px] hover:bg-lampsoft focus:bg-lampsoft focus:shadow-[inset_3px_0_var(--lamp)]"
        >
          <Severity level={row.severity} />
          <span className="min-w-0">
            <b className="block truncate font-semibold max-md:whitespace-normal">{row.label}</b>
            <span className="block truncate text-small text-ink2 max-md:whitespace-normal">
              {row.consequences > 0 && (
                <b className="font-medium text-ink">{counted(row.consequences, "consequence")} · </b>
              )}
              {row.text}
              {row.acknowledged_by && <b className="font-medium text-ink"> · acknowledged by {row.acknowledged_by}</b>}
            </span>
          </span>
          <span className="max-md:hidden">
            <Spark values={spark} />
          </span>
          <span className="figures text-right">{duration((at.getTime() - Date.parse(row.raised_at)) / 1000)}</span>
          <span className="min-w-0 max-md:hidden">
            <Notified row={row} />
          </span>
        </Link>
      ))}
      {active > SHOWN && (
        <Link to={`/alarms${search()}`} className="block py-1 text-ink2 hover:underline">
          {(active - SHOWN).toLocaleString("en-GB")} more in Alarms
        </Link>
      )}
    </>
  );
}

/** Who was called; that nobody is stands out. */
export function Notified({ row }: { row: Schemas["AlarmRow"] }) {
  if (row.notified) {
    const words = { sent: "called", failed: "not reached:" }[row.message_state ?? ""] ?? "calling";
    return (
      <span
        className={`block truncate text-small ${row.message_state === "failed" ? "text-critical" : "text-ink2"}`}
        title={row.notified}
      >
        {words} {row.notified}
      </span>
    );
  }
  return row.plan ? (
    <span className="truncate text-small text-critical" title={`The call plan ${row.plan} reached nobody`}>
      nobody was called
    </span>
  ) : (
    <span className="text-small text-critical" title="Its rule has no call plan">
      nobody is called
    </span>
  );
}
