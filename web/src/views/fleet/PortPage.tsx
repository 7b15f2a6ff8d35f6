import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import type { Schemas } from "../../api/client";
import { alarmsQuery, calculationQuery, interfaceQuery, seriesQuery } from "../../api/queries";
import { useScreenTime, useSetScreenTime } from "../../app/screenTime";
import { useMay } from "../../app/session";
import { ChartTools } from "../../charts/ChartTools";
import { RateChart } from "../../charts/RateChart";
import { useChartView } from "../../charts/view";
import { duration, moment, rate, text } from "../../components/format";
import { Problem } from "../../components/Problem";
import { AlarmLines } from "../alarms/AlarmLines";
import { ApplyingRules } from "../alarms/ApplyingRules";
import { questionPage } from "../paths/questionPage";
import { Calculation } from "./Calculation";
import { Forecast } from "./Forecast";
import { PortLayer2 } from "./Layer2";
import { LogbookLines } from "./LogbookLines";
import { PortNeighbours } from "./Neighbours";
import { PortActions } from "./PortActions";
import { stateWords } from "./PortList";
import { PortRole } from "./PortRole";
import { PortTraffic } from "./PortTraffic";
import { SoldSpeed } from "./SoldSpeed";
import { PortStations } from "./Stations";
import { Summary } from "./Summary";
import { SummaryTable } from "./SummaryTable";
import { useTrail } from "./trail";
import { PortAccessPoint } from "./Wireless";

type Speed = NonNullable<Schemas["InterfaceOut"]["speed"]>;

/** Whether a direction has no speed to be measured against because the port exceeds what it states. */
const isDoubtful = (speed: Speed) => speed.in_source === "exceeded" || speed.out_source === "exceeded";

/** Where the speed comes from, in words. */
function speedWords(speed: Speed | null | undefined): string {
  if (!speed) return "speed not known yet";
  const port = speed.port_bps ? text(rate(speed.port_bps)).replace(".0 ", " ") : "";
  if (isDoubtful(speed)) return `states ${port} but carries more: its speed is not credible, so no share is shown`;
  if (speed.in_source !== "override" && speed.out_source !== "override") {
    return port ? `${port} from ${speed.in_source}` : "the device does not say its speed";
  }
  const sold = (bps: number) => text(rate(bps)).replace(".0 ", " ");
  const ways =
    speed.in_bps === speed.out_bps
      ? `${sold(speed.in_bps)} each way`
      : `${sold(speed.in_bps)} in, ${sold(speed.out_bps)} out`;
  return `${port} port, sold as ${ways}`;
}

/** One interface: what it does over the screen's time, and how every figure came about. */
export function PortPage({ port }: { port: number }) {
  const may = useMay();
  const time = useScreenTime();
  const { show, follow } = useSetScreenTime();
  const trail = useTrail();
  const navigate = useNavigate();
  const [point, setPoint] = useState<Date | null>(null);
  const { data: found, error } = useQuery(interfaceQuery(port, time.at));
  const view = useChartView();
  const { data: series, error: missing } = useQuery(seriesQuery(port, time.range));
  const { data: ghost } = useQuery({
    ...seriesQuery(port, time.range, view.ghostSeconds),
    enabled: view.ghostSeconds > 0,
  });
  const { data: alarms } = useQuery(alarmsQuery(time.at, { interface: port }));
  // Without a cursor the calculation is that of the newest reading.
  const newest = found?.row.at ? new Date(found.row.at) : null;
  const step = point ? (series?.step_s ?? 0) : 0;
  const isReading = step <= 1.5 * (found?.interval_s ?? 60);
  const at = point ? new Date(Math.min(point.getTime() - (isReading ? 1 : 0), Date.now())) : newest;
  const { data: calculation } = useQuery({
    ...calculationQuery(port, at?.toISOString() ?? "", isReading ? 0 : step),
    enabled: at !== null,
  });
  if (!found) return <Problem error={error} />;
  const { row } = found;
  const back = () => (time.following ? follow(time.span ?? undefined) : navigate(-1));
  return (
    <article>
      <h1 className="text-title font-semibold tracking-tight">
        {row.label}
        <span className="ml-2 text-body font-normal tracking-normal text-ink2">
          <Link className="underline" to={trail.thing("device", row.device_id)}>
            {row.device}
          </Link>{" "}
          · {row.name || found.descr} · ifIndex {row.if_index}
        </span>
      </h1>
      <div className="mt-0.5 mb-2 text-ink2">
        <b className={`font-medium ${row.answers && row.oper === 1 ? "text-ink" : "text-critical"}`}>
          {stateWords(row)}
        </b>
        {row.since && ` since ${moment(new Date(row.since))}`}
        {!row.answers && found.device_words && ` (${found.device_words})`} · polled every {duration(found.interval_s)} ·{" "}
        {speedWords(found.speed)}
        {found.duplex && `, ${found.duplex}`}{" "}
        {time.following && may("engineer") && <SoldSpeed port={port} speed={found.speed ?? null} />}{" "}
        {time.following && may("engineer") ? <PortRole port={port} role={row.role} /> : row.role && `· ${row.role}`}
        {time.following && found.gone_at === null && (
          <>
            {" "}
            ·{" "}
            <Link className="underline" to={trail.list({ list: "live", ports: String(port) })}>
              look live
            </Link>
            {may("engineer", true) && (
              <>
                {" · "}
                <PortActions port={port} label={`${row.device} ${row.label}`} />
              </>
            )}
            {" · "}
            <Link className="underline" to={questionPage("", `${row.device} ${row.name}`)}>
              was it the network?
            </Link>
            {may("operator", true) && (
              <>
                {" · "}
                <Link className="underline" to={`/alarms?show=maintenance&port=${port}`}>
                  plan maintenance
                </Link>
              </>
            )}
          </>
        )}
      </div>
      <PortNeighbours port={port} />
      <PortAccessPoint port={port} />
      <PortLayer2 port={port} />
      {alarms && <AlarmLines alarms={alarms.rows} at={time.end} resource="interface" />}
      <Problem error={missing} />
      {series && (
        <>
          <div className="figures flex flex-wrap items-center justify-between gap-x-4 text-small text-ink2">
            <span className="flex items-center">
              <i className="mr-1 inline-block h-2 w-4 bg-in" />
              in <i className="mr-1 ml-2 inline-block h-[2px] w-4 bg-out" />
              out
              {view.ghostSeconds > 0 && (
                <span className="ml-2">
                  <i className="mr-1 inline-block w-4 border-t border-dotted border-ink align-middle" />
                  {duration(view.ghostSeconds)} earlier
                </span>
              )}
            </span>
            <ChartTools view={view} />
            <span>
              mean of {duration(series.step_s)}
              {series.source !== "readings" && `, from ${series.source}`} ·{" "}
              <a
                className="underline"
                href={`/api/v1/interfaces/${port}/series.csv?start=${time.range.start}&end=${time.range.end}`}
              >
                CSV
              </a>{" "}
              · what was counted as{" "}
              {["csv", "parquet"].map((format, place) => (
                <span key={format}>
                  {place > 0 && " or "}
                  <a
                    className="underline"
                    href={`/api/v1/export/readings?interfaces=${port}&format=${format}&start=${time.range.start}&end=${time.range.end}`}
                  >
                    {format === "csv" ? "CSV" : "Parquet"}
                  </a>
                </span>
              ))}
            </span>
          </div>
          <RateChart
            series={series}
            ghost={view.ghostSeconds > 0 ? ghost : undefined}
            view={view}
            start={time.start}
            end={time.end}
            onZoom={show}
            onBack={back}
            onPoint={setPoint}
          />
          {view.table && <SummaryTable series={series} unit={view.unit} />}
          <div className="mt-2.5 grid grid-cols-[minmax(0,1fr)_310px] gap-6 max-xl:grid-cols-1">
            <div>
              <Summary series={series} unit={view.unit} seconds={(time.end.getTime() - time.start.getTime()) / 1000} />
              <Forecast filter={{ interfaces: [port] }} at={time.at} />
              <PortTraffic port={port} />
              <PortStations port={port} />
              <LogbookLines range={time.range} only={{ interface: port }} />
              {time.following && <ApplyingRules only={{ interface: port }} />}
            </div>
            {calculation && <Calculation lines={calculation} />}
          </div>
        </>
      )}
    </article>
  );
}
