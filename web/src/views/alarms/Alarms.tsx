import { useQuery } from "@tanstack/react-query";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import type { Schemas } from "../../api/client";
import { alarmHistoryQuery, alarmsQuery } from "../../api/queries";
import { useKeys, useRowKeys } from "../../app/keys";
import { useScreenTime, useTimeSearch } from "../../app/screenTime";
import { duration, moment } from "../../parts/format";
import { Problem } from "../../parts/Problem";
import { Severity } from "../../parts/Severity";
import { SEVERITIES } from "../../parts/severities";
import { Told } from "../now/Causes";
import { AlarmPage } from "./AlarmPage";
import { Watched } from "./Watched";

/** Alarms that stand, or all of the screen's time; beside them the one that is open, or what is watched. */
export function Alarms() {
  const { number } = useParams();
  const [search] = useSearchParams();
  const time = useScreenTime();
  const keep = useTimeSearch();
  const navigate = useNavigate();
  const all = search.get("show") === "all";
  const standing = useQuery({ ...alarmsQuery(time.at), enabled: !all });
  const history = useQuery({ ...alarmHistoryQuery(time.range), enabled: all });
  const { data, error } = all ? history : standing;
  useRowKeys();
  useKeys({ Escape: () => navigate(`/alarms${keep(all ? { show: "all" } : {})}`) });
  const mark = (on: boolean) => (on ? "marked" : "text-ink2 hover:text-ink");
  return (
    <div className="grid h-full grid-cols-[minmax(0,1fr)_400px] max-lg:grid-cols-1">
      <section className={`min-h-0 overflow-auto px-4 pt-3 ${number ? "max-lg:hidden" : ""}`}>
        <h1 className="heading">
          <Link to={`/alarms${keep()}`} className={mark(!all)}>
            {time.following ? "Standing now" : `Standing at ${moment(time.end)}`}
          </Link>
          <Link to={`/alarms${keep({ show: "all" })}`} className={mark(all)}>
            All of the time shown
          </Link>
          <span className="ml-auto font-normal text-ink2">{data?.rows.length ?? ""}</span>
        </h1>
        <Problem error={error} />
        {data?.rows.length === 0 && (
          <p className="py-2 text-ink2">
            {all ? "No alarm stood in this time." : "No alarm stands. “All of the time shown” lists what was cleared."}
          </p>
        )}
        {data?.rows.map((alarm) => (
          <Line
            key={alarm.id}
            alarm={alarm}
            at={time.end}
            open={Number(number) === alarm.id}
            to={`/alarms/${alarm.id}${keep(all ? { show: "all" } : {})}`}
          />
        ))}
      </section>
      <aside className="min-h-0 overflow-auto border-l border-rule px-4 pt-3 pb-4">
        {number ? <AlarmPage key={number} alarm={Number(number)} /> : <Watched />}
      </aside>
    </div>
  );
}

function Line({ alarm, at, open, to }: { alarm: Schemas["AlarmRow"]; at: Date; open: boolean; to: string }) {
  const cleared = alarm.severity === 0;
  const until = cleared ? Date.parse(alarm.changed_at) : Math.min(at.getTime(), Date.now());
  return (
    <Link
      data-row
      to={to}
      className={`-mx-1.5 grid grid-cols-[20px_64px_minmax(0,1fr)_104px_50px_112px] items-center gap-2.5 border-b border-faint px-1.5 py-[5px] max-md:grid-cols-[20px_minmax(0,1fr)_50px] ${open ? "bg-lampsoft shadow-[inset_3px_0_var(--lamp)]" : "hover:bg-lampsoft focus:bg-lampsoft focus:shadow-[inset_3px_0_var(--lamp)]"}`}
    >
      <Severity level={alarm.severity} />
      <span className="max-md:hidden">{SEVERITIES[alarm.severity]?.word}</span>
      <span className="min-w-0">
        <b className="block truncate font-semibold">
          {alarm.device} {alarm.interface} {alarm.site && <span className="font-normal text-ink2">{alarm.site}</span>}
        </b>
        <span className="block truncate text-[12px] text-ink2">{alarm.text}</span>
      </span>
      <span className="figures text-ink2 max-md:hidden">{moment(new Date(alarm.raised_at))}</span>
      <span className="figures text-right">{duration((until - Date.parse(alarm.raised_at)) / 1000)}</span>
      <span className="max-md:hidden">
        <Told row={alarm} />
      </span>
    </Link>
  );
}
