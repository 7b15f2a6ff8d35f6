import { useInfiniteQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import type { Schemas } from "../../api/client";
import { alarmHistoryQuery, alarmListQuery } from "../../api/queries";
import { useKeys, useRowKeys } from "../../app/keys";
import { useScreenTime, useTimeSearch } from "../../app/screenTime";
import { useMay } from "../../app/session";
import { counted, duration, moment } from "../../components/format";
import { Problem } from "../../components/Problem";
import { RowCheckbox } from "../../components/RowCheckbox";
import { Severity } from "../../components/Severity";
import { SEVERITIES } from "../../components/severities";
import { useTyped } from "../../components/useTyped";
import { lazily } from "../lazily";
import { Notified } from "../now/Causes";
import { AlarmActions } from "./AlarmActions";
import { AlarmPage } from "./AlarmPage";
import { AlarmsHeading } from "./AlarmsHeading";
import { Rules } from "./Rules";

const RulePage = lazily(() => import("./RulePage"), "RulePage");
const Maintenance = lazily(() => import("./Maintenance"), "Maintenance");

/** Alarms and rules: the lists, one rule, or what maintenance is planned. */
export function Alarms() {
  const [search] = useSearchParams();
  if (useParams().rule) return <RulePage />;
  return search.get("show") === "maintenance" ? <Maintenance /> : <Lists />;
}

/** Alarms that are active, or all of the time shown; beside them the one that is open, or the rules. */
function Lists() {
  const { number } = useParams();
  const [search] = useSearchParams();
  const time = useScreenTime();
  const keep = useTimeSearch();
  const navigate = useNavigate();
  const show = search.get("show");
  const all = show === "all";
  const shelved = show === "shelved";
  const shown: Record<string, string> = show ? { show } : {};
  const [chosen, setChosen] = useState<ReadonlySet<number>>(new Set());
  const mayAct = useMay()("operator") && time.following;
  const active = useInfiniteQuery({ ...alarmListQuery(time.at, shelved), enabled: !all });
  const [words, setWords] = useState("");
  const sought = useTyped(words);
  const history = useInfiniteQuery({ ...alarmHistoryQuery(time.range, sought), enabled: all });
  const { data, error, hasNextPage, fetchNextPage, isFetchingNextPage } = all ? history : active;
  const rows = data?.pages.flatMap((page) => page.rows);
  const total = data?.pages[0]?.total ?? rows?.length ?? 0;
  const choose = (id: number) =>
    setChosen((before) => new Set(before.has(id) ? [...before].filter((each) => each !== id) : [...before, id]));
  const picked = rows?.filter(({ id }) => chosen.has(id)) ?? [];
  useRowKeys();
  useKeys({
    Escape: () => (picked.length ? setChosen(new Set()) : navigate(`/alarms${keep(shown)}`)),
    x: () => {
      const id = Number((document.activeElement as HTMLElement | null)?.dataset.alarm);
      if (mayAct && id) choose(id);
    },
  });
  return (
    <div className="grid h-full grid-cols-[minmax(0,1fr)_400px] max-lg:grid-cols-1">
      <section className={`min-h-0 overflow-auto px-4 pt-3 ${number ? "max-lg:hidden" : ""}`}>
        <AlarmsHeading show={show} active={time.following ? "Active" : `Active at ${moment(time.end)}`}>
          <span className="ml-auto font-normal text-ink2">
            {rows && (hasNextPage && all ? `${total}+` : total.toLocaleString("en-GB"))}
          </span>
        </AlarmsHeading>
        {all && (
          <input
            type="search"
            aria-label="Search the history"
            placeholder="Search: a port, a site, a rule, words of the text"
            className="field my-2 w-[340px] max-w-full"
            value={words}
            onChange={(event) => setWords(event.target.value)}
          />
        )}
        <Problem error={error} />
        {rows?.length === 0 && (
          <p className="py-2 text-ink2">
            {all
              ? sought
                ? "No matching alarms in this time."
                : "No alarm was active in this time."
              : shelved
                ? "No alarm is shelved or in maintenance. Such alarms are listed here, and nobody is called for them."
                : "No active alarms. History lists those that were cleared."}
          </p>
        )}
        {mayAct && !number && picked.length > 0 && (
          <div className="flex flex-wrap items-center gap-x-3 border-b border-rule">
            <b className="font-semibold">{counted(picked.length, "alarm")}</b>
            <AlarmActions rows={picked} onDone={() => setChosen(new Set())} />
          </div>
        )}
        {rows?.map((alarm) => (
          <Line
            key={alarm.id}
            alarm={alarm}
            at={time.end}
            open={Number(number) === alarm.id}
            to={`/alarms/${alarm.id}${keep(shown)}`}
            chosen={chosen.has(alarm.id)}
            choose={mayAct ? () => choose(alarm.id) : undefined}
          />
        ))}
        {rows && hasNextPage && (
          <p className="flex items-center gap-3 py-2 text-ink2">
            <button type="button" className="button" disabled={isFetchingNextPage} onClick={() => void fetchNextPage()}>
              Show more
            </button>
            {!all && `${rows.length} of ${total.toLocaleString("en-GB")}, worst first`}
          </p>
        )}
      </section>
      <aside className="min-h-0 overflow-auto border-l border-rule px-4 pt-3 pb-4 max-lg:border-l-0">
        {number ? <AlarmPage key={number} alarm={Number(number)} /> : <Rules />}
      </aside>
    </div>
  );
}

type LineProps = {
  alarm: Schemas["AlarmRow"];
  at: Date;
  open: boolean;
  to: string;
  chosen: boolean;
  choose: (() => void) | undefined;
};

function Line({ alarm, at, open, to, chosen, choose }: LineProps) {
  const cleared = alarm.severity === 0;
  const until = cleared ? Date.parse(alarm.changed_at) : Math.min(at.getTime(), Date.now());
  return (
    <div className="flex items-center gap-1">
      {choose && <RowCheckbox className="h-7" label={`Select ${alarm.label}`} checked={chosen} onChange={choose} />}
      <Link
        data-row
        data-alarm={alarm.id}
        to={to}
        className={`-mx-1.5 grid min-w-0 flex-1 grid-cols-[20px_64px_minmax(0,1fr)_104px_50px_112px] items-center gap-2.5 border-b border-faint px-1.5 py-[5px] max-md:grid-cols-[20px_minmax(0,1fr)_auto] ${open ? "bg-lampsoft shadow-[inset_3px_0_var(--lamp)]" : "hover:bg-lampsoft focus:bg-lampsoft focus:shadow-[inset_3px_0_var(--lamp)]"}`}
      >
        <Severity level={alarm.severity} />
        <span className="max-md:hidden">{SEVERITIES[alarm.severity]?.word}</span>
        <span className="min-w-0">
          <b className="block truncate font-semibold max-md:whitespace-normal">
            {alarm.label} {alarm.site && <span className="font-normal text-ink2">{alarm.site}</span>}
          </b>
          <span className="block truncate text-small text-ink2 max-md:whitespace-normal">
            {alarm.consequences > 0 && (
              <b className="font-medium text-ink">{counted(alarm.consequences, "consequence")} · </b>
            )}
            {alarm.text}
            {alarm.raised_lately > 1 && ` · ${alarm.raised_lately} times in an hour`}
            {alarm.acknowledged_by && (
              <b className="font-medium text-ink"> · acknowledged by {alarm.acknowledged_by}</b>
            )}
          </span>
        </span>
        <span className="figures text-ink2 max-md:hidden">{moment(new Date(alarm.raised_at))}</span>
        <span className="figures text-right">{duration((until - Date.parse(alarm.raised_at)) / 1000)}</span>
        <span className="min-w-0 max-md:hidden">
          <Notified row={alarm} />
        </span>
      </Link>
    </div>
  );
}
