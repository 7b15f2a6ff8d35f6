import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import type { Schemas } from "../../api/client";
import { portPageQuery } from "../../api/queries";
import { useScreenTime } from "../../app/screenTime";
import { usePlace } from "../../app/usePlace";
import { Figure } from "../../components/Figure";
import { moment, percent, perSecond, rate } from "../../components/format";
import { LoadBar } from "../../components/LoadBar";
import { Problem } from "../../components/Problem";
import { RowCheckbox } from "../../components/RowCheckbox";
import { Severity } from "../../components/Severity";
import { ListHead } from "./ListHead";
import { usePicked } from "./picked";
import { PagedRows } from "./Rows";
import { useTrail } from "./trail";

type Port = Schemas["PortRow"];
export const WIDE =
  "grid-cols-[18px_minmax(110px,1.2fr)_minmax(90px,0.8fr)_minmax(72px,0.5fr)_minmax(110px,1fr)_40px_70px_70px_56px_minmax(90px,0.7fr)]";

/** In words: what a port's state is. */
export function stateWords(port: Port): string {
  if (!port.answers) return "no answer";
  if (port.oper === null) return "not polled yet";
  if (port.oper === 1) return "up";
  return port.admin === 1 ? "down" : "switched off";
}

/** Ports of a site or of a device, the second column of the trail; a full table while nothing is open beside it. */
export function PortList({ narrow }: { narrow: boolean }) {
  const { place, name } = usePlace();
  const [search] = useSearchParams();
  const time = useScreenTime();
  const device = search.get("device");
  const filter = {
    ...(device ? { device: Number(device) } : place),
    words: search.get("words") ?? "",
    sort: search.get("sort") ?? "load",
  };
  const page = (number: number) => portPageQuery(time.at, filter, number);
  const { data, error } = useQuery({ ...page(0), placeholderData: keepPreviousData });
  const title = device ? (data?.rows[0]?.device ?? "…") : name || "All ports";
  const count = data ? `${data.total.toLocaleString("en")} ports` : "";
  return (
    <div className="flex h-full flex-col">
      <ListHead title={title} count={count} list="ports" />
      <Problem error={error} />
      {data?.total === 0 && <p className="px-3.5 py-2 text-ink2">No matching ports. Clear the search to see all.</p>}
      {!narrow && (
        <div
          className={`grid ${WIDE} items-center gap-2.5 border-b border-rule py-1 pr-3.5 pl-[44px] text-small text-ink2`}
        >
          <span />
          <span>port</span>
          <span>device</span>
          <span>role</span>
          <span>load</span>
          <span className="text-right">%</span>
          <span className="text-right">in</span>
          <span className="text-right">out</span>
          <span className="text-right">errors/s</span>
          <span>state since</span>
        </div>
      )}
      <PagedRows
        name={`ports ${name} ${device} ${narrow}`}
        total={data?.total ?? 0}
        page={page}
        row={(port) => (narrow ? <NarrowPort port={port} /> : <WidePort port={port} />)}
      />
    </div>
  );
}

const chosen = (on: boolean) =>
  on
    ? "bg-lampsoft font-semibold shadow-[inset_3px_0_var(--lamp)]"
    : "hover:bg-lampsoft focus:bg-lampsoft focus:shadow-[inset_3px_0_var(--lamp)]";

function NarrowPort({ port }: { port: Port }) {
  const trail = useTrail();
  const down = port.oper !== 1 || !port.answers;
  return (
    <Link
      data-row
      to={trail.thing("port", port.id)}
      title={`${port.device} ${port.name}: ${stateWords(port)}`}
      className={`grid h-full grid-cols-[minmax(0,1fr)_62px] items-center gap-2 px-3.5 ${chosen(trail.isOpen("port", port.id))}`}
    >
      <span className={`truncate ${down ? "text-ink2" : ""}`}>
        {port.label} <span className="font-normal text-ink2">{port.device}</span>
      </span>
      <LoadBar inPercent={port.in_percent} outPercent={port.out_percent} down={down} />
    </Link>
  );
}

function WidePort({ port }: { port: Port }) {
  const trail = useTrail();
  const { isPicked, toggle } = usePicked();
  const down = port.oper !== 1 || !port.answers;
  return (
    <div className="flex h-full border-b border-faint">
      <RowCheckbox
        className="ml-1.5"
        label={`Choose ${port.label} of ${port.device}`}
        checked={isPicked(port.id)}
        onChange={() => toggle(port.id)}
      />
      <Link
        data-row
        to={trail.thing("port", port.id)}
        className={`figures grid min-w-0 grow ${WIDE} items-center gap-2.5 pr-3.5 pl-2.5 ${chosen(false)} ${down ? "text-ink2" : ""}`}
      >
        {port.severity ? <Severity level={port.severity} /> : <span />}
        <span className="truncate">
          {port.label} {port.label !== port.name && <span className="text-ink2">{port.name}</span>}
          {port.neighbour && <span className="text-ink2"> → {port.neighbour}</span>}
        </span>
        <span className="truncate">{port.device}</span>
        <span className="truncate text-ink2">{port.role}</span>
        <LoadBar inPercent={port.in_percent} outPercent={port.out_percent} down={down} />
        <span className="text-right">{percent(port.load)}</span>
        <span className="text-right">
          <Figure of={port.in_bps === null || down ? null : rate(port.in_bps)} />
        </span>
        <span className="text-right">
          <Figure of={port.out_bps === null || down ? null : rate(port.out_bps)} />
        </span>
        <span className="text-right">{port.error_rate ? perSecond(port.error_rate) : ""}</span>
        <span className="truncate">
          {stateWords(port)} {port.since && <span className="text-ink2">{moment(new Date(port.since))}</span>}
        </span>
      </Link>
    </div>
  );
}
