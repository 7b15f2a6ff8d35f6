import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { alarmQuery } from "../../api/queries";
import { useScreenTime, useTimeSearch } from "../../app/screenTime";
import { moment } from "../../components/format";
import { Problem } from "../../components/Problem";
import { Severity } from "../../components/Severity";
import { SEVERITIES } from "../../components/severities";

const STATES: Record<string, string> = {
  pending: "waiting to be sent",
  sending: "being sent",
  sent: "sent",
  failed: "not sent",
};

/** What the page of a resource is called. */
const PAGES: Record<string, string> = {
  interface: "Port",
  device: "Device",
  component: "Device",
  lumtar: "Services",
};

/** One alarm: what it is about, every change of its status, and who was notified. */
export function AlarmPage({ alarm }: { alarm: number }) {
  const time = useScreenTime();
  const search = useTimeSearch();
  const { data, error } = useQuery(alarmQuery(alarm, time.at));
  if (!data) return <Problem error={error} />;
  const { row, changes, notifications } = data;
  const words = PAGES[row.resource] ?? row.resource;
  return (
    <article>
      <h2 className="flex items-center gap-2 text-large font-semibold tracking-tight">
        <Severity level={row.severity} />
        {row.label}
      </h2>
      <p className="mt-1">{row.text}</p>
      <p className="mt-1 mb-3 text-ink2">
        {SEVERITIES[row.severity]?.word} · rule {row.rule ?? "deleted"}
        {(row.device_id || row.resource === "lumtar") && (
          <>
            {" · "}
            <Link className="text-ink underline" to={row.page + search()}>
              {words}
            </Link>
          </>
        )}
      </p>
      <h3 className="heading">History</h3>
      {changes.map((change) => (
        <p
          key={`${change.at}${change.severity}`}
          className="grid grid-cols-[20px_92px_minmax(0,1fr)] gap-2 border-b max-md:grid-cols-[20px_64px_minmax(0,1fr)] border-dotted border-rule py-1 text-small"
        >
          <Severity level={change.severity} />
          <span className="figures text-ink2">{moment(new Date(change.at))}</span>
          <span>{change.text}</span>
        </p>
      ))}
      <h3 className="heading mt-4">Notified</h3>
      {notifications.length === 0 && (
        <p className="text-ink2">Nobody: no address was set when these changes happened.</p>
      )}
      {notifications.map((each) => (
        <p
          key={`${each.at}${each.address}${each.severity}`}
          className="grid grid-cols-[92px_minmax(0,1fr)_auto] gap-2 border-b border-dotted border-rule py-1 text-small"
        >
          <span className="figures text-ink2">{moment(new Date(each.at))}</span>
          <span className="truncate" title={each.address}>
            {each.address} <span className="text-ink2">{SEVERITIES[each.severity]?.word}</span>
          </span>
          <span className={each.state === "failed" ? "text-critical" : "text-ink2"} title={each.detail}>
            {STATES[each.state] ?? each.state}
          </span>
        </p>
      ))}
    </article>
  );
}
