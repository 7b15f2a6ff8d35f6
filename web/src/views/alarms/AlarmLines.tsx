import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { useTimeSearch } from "../../app/screenTime";
import { duration } from "../../components/format";
import { Severity } from "../../components/Severity";

type Props = {
  alarms: Schemas["AlarmRow"][];
  at: Date;
  /** The kind of the resource that is shown: an alarm of another one, of its ports, is named. */
  resource: string;
};

/** Active alarms of the resource that is shown; nothing where there are none. */
export function AlarmLines({ alarms, at, resource }: Props) {
  const search = useTimeSearch();
  return alarms.map((alarm) => (
    <Link
      key={alarm.id}
      to={`/alarms/${alarm.id}${search()}`}
      className="mb-1.5 grid grid-cols-[20px_minmax(0,1fr)_auto] items-center gap-2 max-md:grid-cols-[20px_minmax(0,1fr)] border-y border-faint py-1 hover:bg-lampsoft"
    >
      <Severity level={alarm.severity} />
      <span className="font-medium">
        {alarm.resource !== resource && `${alarm.label}: `}
        {alarm.text}
      </span>
      <span className="text-ink2 max-md:col-start-2">
        for {duration((Math.min(at.getTime(), Date.now()) - Date.parse(alarm.raised_at)) / 1000)}
      </span>
    </Link>
  ));
}
