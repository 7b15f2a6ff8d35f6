import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { alarmQuery } from "../../api/queries";
import { useScreenTime, useTimeSearch } from "../../app/screenTime";
import { useMay } from "../../app/session";
import { moment } from "../../components/format";
import { Problem } from "../../components/Problem";
import { Severity } from "../../components/Severity";
import { SEVERITIES } from "../../components/severities";
import { Impact } from "../map/Impact";
import { questionPage } from "../paths/questionPage";
import { captureOf } from "../traffic/captureFilter";
import { AlarmActions } from "./AlarmActions";
import { AlarmChart } from "./AlarmChart";
import { historyOf } from "./alarmHistory";
import { Called } from "./Called";
import { Causality } from "./Causality";
import { Similar } from "./Similar";

/** What the page of a resource is called. */
const PAGES: Record<string, string> = {
  interface: "Port",
  device: "Device",
  component: "Device",
  group: "Group",
  lumtar: "Services",
  collector: "Services",
};

/** The address of a resource's page at the time that is shown; it may have a search of its own. */
function pageAt(page: string, search: ReturnType<typeof useTimeSearch>) {
  const [path, own] = page.split("?");
  return path + search(Object.fromEntries(new URLSearchParams(own)));
}

/** One alarm: what it is about, every change of its status, and who was called. */
export function AlarmPage({ alarm }: { alarm: number }) {
  const time = useScreenTime();
  const search = useTimeSearch();
  const mayCapture = useMay()("engineer", true);
  const { data, error } = useQuery(alarmQuery(alarm, time.at));
  if (!data) return <Problem error={error} />;
  const { row, instructions } = data;
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
        {row.page && (
          <>
            {" · "}
            <Link className="text-ink underline" to={pageAt(row.page, search)}>
              {words}
            </Link>
          </>
        )}
        {mayCapture && time.following && (
          <>
            {" · "}
            <Link className="underline" to={captureOf(row)}>
              capture packets
            </Link>
          </>
        )}
        {row.site && (
          <>
            {" · "}
            <Link className="underline" to={questionPage("", row.resource === "path" ? row.label : row.site)}>
              was it the network?
            </Link>
          </>
        )}
      </p>
      {row.acknowledged_by && row.acknowledged_at && (
        <p>
          Acknowledged by {row.acknowledged_by}, {moment(new Date(row.acknowledged_at))}
        </p>
      )}
      {row.shelved_by && (
        <p>
          {{ maintenance: "In maintenance: ", close: "Closed by " }[row.shelf ?? ""] ?? "Shelved by "}
          {row.shelved_by} {row.shelved_until ? `until ${moment(new Date(row.shelved_until))}` : "until it is cleared"}:
          nobody is called
        </p>
      )}
      {data.note && <p className="mb-2">{data.note}.</p>}
      <Causality row={row} />
      {time.following && <AlarmActions rows={[row]} />}
      {instructions && (
        <>
          <h3 className="heading mt-2">What to do</h3>
          <p className="whitespace-pre-line">{instructions}</p>
        </>
      )}
      {time.following && <AlarmChart row={row} />}
      {time.following && row.device_id && (
        <Impact question={row.interface_id ? { interface: row.interface_id } : { node: `device-${row.device_id}` }} />
      )}
      <Similar episodes={data.similar} alarm={alarm} />
      <h3 className="heading mt-3">History</h3>
      {historyOf(data).map(({ at, severity, text, by }) => (
        <p
          key={`${at}${severity}${text}`}
          className="grid grid-cols-[20px_92px_minmax(0,1fr)] gap-2 border-b max-md:grid-cols-[20px_64px_minmax(0,1fr)] border-dotted border-rule py-1 text-small"
        >
          {severity === null ? <span /> : <Severity level={severity} />}
          <span className="figures text-ink2">{moment(new Date(at))}</span>
          <span>
            {text} {by && <span className="text-ink2">by {by}</span>}
          </span>
        </p>
      ))}
      <Called alarm={data} />
    </article>
  );
}
