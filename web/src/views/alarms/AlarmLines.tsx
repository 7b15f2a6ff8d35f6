import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { useTimeSearch } from "../../app/screenTime";
import { duration } from "../../parts/format";
import { Severity } from "../../parts/Severity";

/** Alarms that stand on the thing that is shown; nothing where there are none. */
export function AlarmLines({ alarms, at }: { alarms: Schemas["AlarmRow"][]; at: Date }) {
  const search = useTimeSearch();
  return alarms.map((alarm) => (
    <Link
      key={alarm.id}
      to={`/alarms/${alarm.id}${search()}`}
      className="mb-1.5 flex items-center gap-2 border-y border-faint py-1 hover:bg-lampsoft"
    >
      <Severity level={alarm.severity} />
      <span className="font-medium">
        {alarm.interface && `${alarm.interface}: `}
        {alarm.text}
      </span>
      <span className="ml-auto text-ink2">
        for {duration((Math.min(at.getTime(), Date.now()) - Date.parse(alarm.raised_at)) / 1000)}
      </span>
    </Link>
  ));
}
