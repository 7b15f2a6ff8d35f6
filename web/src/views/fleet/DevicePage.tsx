import { useQuery } from "@tanstack/react-query";
import { Link, useNavigate } from "react-router";
import type { Schemas } from "../../api/client";
import { alarmsQuery, componentsQuery, deviceQuery, gridQuery, portsQuery } from "../../api/queries";
import { useScreenTime, useSetScreenTime } from "../../app/screenTime";
import { ComponentChart } from "../../charts/ComponentChart";
import { duration, moment, percent, reading } from "../../components/format";
import { LoadBar } from "../../components/LoadBar";
import { Problem } from "../../components/Problem";
import { useClock } from "../../components/useClock";
import { AlarmLines } from "../alarms/AlarmLines";
import { ApplyingRules } from "../alarms/ApplyingRules";
import { Cells } from "./Cells";
import { ComponentStates } from "./ComponentStates";
import { DeviceTools } from "./DeviceTools";
import { DeviceBridge } from "./Layer2";
import { LogbookLines } from "./LogbookLines";
import { Neighbours } from "./Neighbours";
import { stateWords } from "./PortList";
import { DeviceRoutes } from "./Routes";
import { useTrail } from "./trail";
import { DeviceWireless } from "./Wireless";

const WATCHED: Record<string, string> = { snmp: "", icmp: " by ICMP echo", tcp: " by TCP" };

/** Whether it answers, since when, why not, and what happens next. */
function Reachability({ device, following }: { device: Schemas["DeviceRow"]; following: boolean }) {
  const now = useClock();
  const since = device.since && ` since ${moment(new Date(device.since))}`;
  const next = following && device.next_poll_at ? (Date.parse(device.next_poll_at) - now) / 1000 : null;
  return (
    <p className="figures mt-0.5 mb-2 text-ink2">
      {device.reach === "silent" ? (
        <b className="font-medium text-critical">
          Does not answer{since}: {device.reason}.
        </b>
      ) : device.reach === "answers" ? (
        <>
          <b className="font-medium text-ink">Answers</b>
          {since}
          {device.started_at && `, up for ${duration((now - Date.parse(device.started_at)) / 1000)}`}
        </>
      ) : (
        "Not polled yet"
      )}{" "}
      ·{" "}
      {!device.enabled
        ? "polling is off"
        : next === null
          ? ""
          : next > 0
            ? `next poll in ${duration(next)}`
            : "polling now"}
      {following && device.poll_ms !== null && ` · the last poll took ${device.poll_ms.toFixed(0)} ms`}
    </p>
  );
}

/** What it gave and was not believed: the object, and what was wrong with it. */
function Refused({ refused }: { refused: Record<string, string> }) {
  const told = Object.entries(refused);
  if (told.length === 0) return null;
  return (
    <details className="mb-2">
      <summary className="cursor-pointer">
        Gives {told.length === 1 ? "a value" : `values of ${told.length} objects`} that cannot be; they are left out
      </summary>
      {told.map(([name, words]) => (
        <p key={name} className="text-ink2">
          <b className="font-medium text-ink">{name}</b> {words}
        </p>
      ))}
    </details>
  );
}

/** One device: identity, reachability, components, ports. */
export function DevicePage({ device }: { device: number }) {
  const time = useScreenTime();
  const { show, follow } = useSetScreenTime();
  const navigate = useNavigate();
  const { data: found, error } = useQuery(deviceQuery(device, time.at));
  const { data: over } = useQuery(componentsQuery(device, time.range));
  const components = over?.components;
  const { data: alarms } = useQuery(alarmsQuery(time.at, { device }));
  if (!found) return <Problem error={error} />;
  const { row } = found;
  const charts = [...new Set((components ?? []).map((part) => part.chart))];
  const back = () => (time.following ? follow(time.span ?? undefined) : navigate(-1));
  const facts: [string, string][] = [
    ["model", [row.maker, row.model].filter(Boolean).join(" ")],
    ["software", found.software],
    ["serial", found.serial],
    ["location", found.location],
    ["contact", found.contact],
    ["sysDescr", found.sys_descr],
    ["sysObjectID", found.sys_object_id],
    ["counters", found.refresh],
    ["credential", found.credential],
    ["profile", found.profile && `${found.profile}, ${found.profile_by || "chosen"}`],
    ["groups", found.groups.join(", ")],
    ...Object.entries({ ...found.tags, ...found.own }),
  ];
  return (
    <article>
      <h1 className="text-title font-semibold tracking-tight">
        {row.name}
        <span className="figures ml-2 text-body font-normal tracking-normal text-ink2">
          {row.address}
          {WATCHED[found.way]}
          {row.port > 0 && ` port ${row.port}`} · {row.site ?? "no site"} · polled every {duration(row.interval_s)}
        </span>
      </h1>
      {!found.retired_at && <Reachability device={row} following={time.following} />}
      {time.following && <DeviceTools device={found} />}
      {time.following && <Refused refused={found.refused} />}
      {alarms && <AlarmLines alarms={alarms.rows} at={time.end} resource="device" />}
      <div className="grid grid-cols-[minmax(0,1fr)_minmax(240px,0.7fr)] gap-6 max-xl:grid-cols-1">
        <div>
          {charts.map((chart) => {
            const group = (components ?? []).filter((part) => part.chart === chart);
            const unit = group[0]?.unit ?? "";
            return (
              <section key={chart}>
                <h2 className="flex flex-wrap gap-x-3 pt-1 text-small font-semibold">
                  {group.map((part) => {
                    const newest = part.value.findLast((value) => value !== null);
                    return (
                      <span key={part.name}>
                        {part.name}{" "}
                        <span className="figures font-normal text-ink2">
                          {newest == null ? "–" : reading(newest, unit)}
                        </span>
                      </span>
                    );
                  })}
                </h2>
                <ComponentChart
                  components={group}
                  gaps={over?.gaps ?? []}
                  unit={unit}
                  start={time.start}
                  end={time.end}
                  onZoom={show}
                  onBack={back}
                />
              </section>
            );
          })}
          {components?.length === 0 && <p className="text-ink2">No components and no polls in this time.</p>}
        </div>
        <div>
          <h2 className="heading">What it is</h2>
          <dl className="grid grid-cols-[86px_minmax(0,1fr)] text-small">
            {facts
              .filter(([, value]) => value)
              .map(([name, value]) => (
                <div key={name} className="contents">
                  <dt className="border-b border-dotted border-rule py-[3px] text-ink2">{name}</dt>
                  <dd className="border-b border-dotted border-rule py-[3px] break-words">{value}</dd>
                </div>
              ))}
          </dl>
          <ComponentStates components={found.components} />
          <Neighbours device={device} />
          {time.following && <DeviceBridge device={device} />}
          <DeviceRoutes device={device} />
          <DeviceWireless device={device} />
          <LogbookLines range={time.range} only={{ device }} />
          {time.following && <ApplyingRules only={{ device }} />}
        </div>
      </div>
      <DevicePorts device={device} />
    </article>
  );
}

function DevicePorts({ device }: { device: number }) {
  const time = useScreenTime();
  const trail = useTrail();
  const { data, error } = useQuery(portsQuery(time.at, { device, sort: "name" }));
  const { data: grid } = useQuery(gridQuery(time.at, null, { by: "load", device }));
  return (
    <>
      <h2 className="heading mt-3">
        Ports{" "}
        <span className="font-normal text-ink2">
          {data?.total}, as they stand on the box, by their load in the last hour
        </span>
      </h2>
      {grid?.devices[0] && (
        <div className="py-1.5">
          <Cells device={grid.devices[0]} by="load" order="box" />
        </div>
      )}
      <Problem error={error} />
      <div className="grid grid-cols-2 gap-x-6 max-xl:grid-cols-1">
        {data?.rows.map((port) => {
          const down = port.oper !== 1 || !port.answers;
          return (
            <Link
              key={port.id}
              data-row
              to={trail.portOf(device, port.id)}
              className="figures grid grid-cols-[44px_minmax(0,1fr)_80px_40px] items-center gap-2 border-b border-faint py-1 hover:bg-lampsoft"
            >
              <span className="truncate text-ink2">{port.name || port.if_index}</span>
              <span className={`truncate ${down ? "text-ink2" : ""}`}>
                {port.label === port.name ? stateWords(port) : port.label}
              </span>
              <LoadBar inPercent={port.in_percent} outPercent={port.out_percent} down={down} />
              <span className="text-right">{down ? "" : percent(port.load)}</span>
            </Link>
          );
        })}
      </div>
    </>
  );
}
