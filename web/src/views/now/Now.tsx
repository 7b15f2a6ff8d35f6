import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { nowQuery } from "../../api/queries";
import { useRowKeys } from "../../app/keys";
import { useScreenTime, useTimeSearch } from "../../app/screenTime";
import { clock, percent } from "../../components/format";
import { LoadBar } from "../../components/LoadBar";
import { Problem } from "../../components/Problem";
import { Causes } from "./Causes";
import { NearestPaths } from "./NearestPaths";
import { Sites } from "./Sites";

/** What is wrong, and is it getting worse? */
export function Now() {
  const time = useScreenTime();
  const search = useTimeSearch();
  const { data, error } = useQuery(nowQuery(time.at));
  useRowKeys();
  if (!data) return <Problem error={error} />;
  return (
    <>
      <Problem error={error} />
      <div className="grid grid-cols-[minmax(0,1fr)_400px] gap-[26px] px-4 pt-3.5 max-lg:grid-cols-1">
        <section>
          <h1 className="max-w-[760px] text-headline leading-[1.28] tracking-tight">
            <b className="font-semibold">{data.headline.strong}</b>
            {data.headline.rest}
          </h1>
          <p className="mt-1 mb-3 text-ink2">{data.headline.second}</p>
          <Causes causes={data.causes} active={data.active} at={new Date(data.at)} />
          <Sites sites={data.sites} />
        </section>
        <aside>
          <h2 className="heading">
            {time.following ? "Changed in the last hour" : "Changed in the hour before"}
            <span className="ml-auto font-normal text-ink2">{data.changes.length || ""}</span>
          </h2>
          {data.changes.length === 0 && <p className="py-1 text-ink2">No changes.</p>}
          <ol>
            {data.changes.map((entry) => (
              <li
                key={entry.id}
                className="grid grid-cols-[44px_minmax(0,1fr)] gap-2 border-b border-dotted border-rule text-small leading-6"
              >
                <span className="figures">{clock(new Date(entry.at))}</span>
                {entry.interface_id ? (
                  <Link
                    className="block truncate hover:underline"
                    title={entry.text}
                    to={`/fleet/port/${entry.interface_id}${search()}`}
                  >
                    {entry.text}
                  </Link>
                ) : entry.device_id ? (
                  <Link
                    className="block truncate hover:underline"
                    title={entry.text}
                    to={`/fleet/device/${entry.device_id}${search()}`}
                  >
                    {entry.text}
                  </Link>
                ) : (
                  <span className="truncate">{entry.text}</span>
                )}
              </li>
            ))}
          </ol>
          <h2 className="heading mt-4">
            Busiest ports <span className="font-normal text-ink2">share of speed, latest reading</span>
          </h2>
          {data.busiest.map((port) => (
            <Link
              key={port.id}
              to={`/fleet/port/${port.id}${search()}`}
              className="grid grid-cols-[minmax(0,1fr)_120px_44px] items-center gap-2 border-b border-dotted border-rule py-1 hover:bg-lampsoft"
            >
              <span className="truncate">
                {port.device} <span className="text-ink2">{port.label}</span>
              </span>
              <LoadBar inPercent={port.in_percent} outPercent={port.out_percent} />
              <span className="figures text-right">
                {percent(Math.max(port.in_percent, port.out_percent))}
                <span className="unit">%</span>
              </span>
            </Link>
          ))}
          <p className="pt-1 text-tiny text-ink2">
            <i className="mr-1 inline-block h-[5px] w-4 bg-in align-middle" />
            in <i className="mr-1 ml-2 inline-block h-[5px] w-4 bg-out align-middle" />
            out
          </p>
          <NearestPaths at={time.at} />
        </aside>
      </div>
    </>
  );
}
