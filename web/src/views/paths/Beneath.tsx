import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import type { PathRow } from "../../api/pathQueries";
import { alarmsQuery, seriesQuery } from "../../api/queries";
import { useScreenTime, useTimeSearch } from "../../app/screenTime";
import { RateChart } from "../../charts/RateChart";
import type { ChartView } from "../../charts/view";
import { AlarmLines } from "../alarms/AlarmLines";

const PLAIN: ChartView = { unit: "bits", scale: "fit", ghost: "", ghostSeconds: 0, table: false };

/** Alarms about a path that stand at the end of the time shown. */
export function PathAlarms({ path }: { path: number }) {
  const time = useScreenTime();
  const { data } = useQuery(alarmsQuery(time.at, { path }));
  return data ? <AlarmLines alarms={data.rows} at={time.end} resource="path" /> : null;
}

type Props = { path: PathRow; onZoom: (start: Date, end: Date) => void; onBack: () => void };

/** What goes over the port that carries a path, on the time of the path itself; nothing where that port is not known. */
export function Beneath({ path, onZoom, onBack }: Props) {
  const time = useScreenTime();
  const search = useTimeSearch();
  const port = path.interface;
  const { data: series } = useQuery({ ...seriesQuery(port ?? 0, time.range), enabled: port !== null });
  if (port === null || !series) return null;
  return (
    <section aria-label="Beneath">
      <h2 className="heading mt-2">
        Traffic beneath{" "}
        <span className="font-normal text-ink2">
          at{" "}
          <Link className="underline" to={`/fleet/port/${port}${search()}`}>
            {path.port_label}
          </Link>
        </span>
      </h2>
      <RateChart
        series={series}
        ghost={undefined}
        view={PLAIN}
        start={time.start}
        end={time.end}
        onZoom={onZoom}
        onBack={onBack}
        onPoint={() => undefined}
      />
    </section>
  );
}
