import { useQuery } from "@tanstack/react-query";
import { Link, useNavigate, useSearchParams } from "react-router";
import type { Schemas } from "../../api/client";
import { linesQuery } from "../../api/queries";
import { useScreenTime, useSetScreenTime } from "../../app/screenTime";
import { usePlace } from "../../app/usePlace";
import { useSetSearch } from "../../app/useSetSearch";
import { LinesChart, tint } from "../../charts/LinesChart";
import { Figure } from "../../components/Figure";
import { duration, rate, text } from "../../components/format";
import { InlineChoice } from "../../components/InlineChoice";
import { Problem } from "../../components/Problem";
import { Forecast } from "./Forecast";
import { ListHead } from "./ListHead";
import { usePicked } from "./picked";
import { ROLE_CHOICES } from "./roles";
import { useTrail } from "./trail";

type Lines = Schemas["LinesOut"];
const LOOKS: [string, number][] = [
  ["a day", 86400],
  ["a week", 7 * 86400],
  ["four weeks", 28 * 86400],
  ["a year", 365 * 86400],
];

/** The mean of what is known. */
function mean(values: (number | null)[]): number | null {
  const known = values.filter((value) => value !== null);
  return known.length ? known.reduce((sum, value) => sum + value, 0) / known.length : null;
}

const peak = (values: (number | null)[]) => Math.max(0, ...values.map((value) => value ?? 0));

/** What the ports of a site, or of everything, add up to; from the total to a member to its page. */
export function Together() {
  const { place, name } = usePlace();
  const [search] = useSearchParams();
  const time = useScreenTime();
  const { show, follow } = useSetScreenTime();
  const navigate = useNavigate();
  // A group was put together with care: all of it counts, unless a role is chosen.
  const role = search.get("role") ?? (place.group ? "any" : "wan");
  const { picked: chosen } = usePicked();
  const stacked = search.get("stacked") !== "0";
  const filter = {
    ...(chosen.length ? { interfaces: chosen } : { ...place, ...(role === "any" ? {} : { role }) }),
    words: search.get("words") ?? "",
  };
  const { data, error } = useQuery(linesQuery(filter, time.range));
  const set = useSetSearch();
  const back = () => (time.following ? follow(time.span ?? undefined) : navigate(-1));
  return (
    <div className="flex h-full flex-col">
      <ListHead
        title={chosen.length ? "Chosen ports together" : `${name || "Everything"} together`}
        count={data ? `${data.ports.toLocaleString("en")} ports` : ""}
        list="total"
      />
      <div className="min-h-0 grow overflow-auto px-3.5 pb-4">
        <div className="flex flex-wrap items-center gap-x-4 border-b border-rule py-1 text-small">
          {chosen.length === 0 && (
            <InlineChoice
              label="ports with the role"
              value={role}
              options={ROLE_CHOICES}
              onChoose={(each) => set({ role: each })}
            />
          )}
          <button
            type="button"
            aria-pressed={stacked}
            className={`h-6 px-1.5 ${stacked ? "marked" : "text-ink2 hover:text-ink"}`}
            onClick={() => set({ stacked: stacked ? "0" : "" })}
          >
            Stacked
          </button>
          <span className="text-ink2">
            {data && `mean of ${duration(data.step_s)}. `}A link with both its ends among these ports counts at both.
          </span>
        </div>
        <Problem error={error} />
        {data && (
          <>
            <Directions lines={data} stacked={stacked} start={time.start} end={time.end} onZoom={show} onBack={back} />
            <Members lines={data} />
            <Forecast filter={{ ...filter, together: true }} at={time.at} />
            <h2 className="heading mt-3">Overview</h2>
            <div className="grid grid-cols-4 gap-4 max-lg:grid-cols-2">
              {LOOKS.map(([words, seconds]) => (
                <Look key={words} words={words} seconds={seconds} end={time.end} filter={filter} />
              ))}
            </div>
          </>
        )}
      </div>
    </div>
  );
}

type Shown = {
  lines: Lines;
  stacked: boolean;
  start: Date;
  end: Date;
  onZoom: (start: Date, end: Date) => void;
  onBack: () => void;
};

function Directions({ lines, ...shown }: Shown) {
  return (
    <div className="grid grid-cols-2 gap-4 max-lg:grid-cols-1">
      {(["in", "out"] as const).map((way) => (
        <div key={way}>
          <p className="figures pt-1.5 text-small text-ink2">
            <b className={`font-semibold ${way === "in" ? "text-in" : "text-out"}`}>{way}</b>, mean{" "}
            <Figure of={rateOf(mean(lines.total[`${way}_bps`]))} />, highest{" "}
            <Figure of={rateOf(peak(lines.total[`${way}_bps`]))} />
          </p>
          <LinesChart lines={lines} way={way} height={190} {...shown} />
        </div>
      ))}
    </div>
  );
}

const rateOf = (bps: number | null) => (bps === null ? null : rate(bps));

/** The ports that carried most, in the tints of the chart. */
function Members({ lines }: { lines: Lines }) {
  const trail = useTrail();
  const rest = lines.ports - lines.lines.length;
  return (
    <ol className="mt-1 grid grid-cols-2 gap-x-4 max-lg:grid-cols-1">
      {lines.lines.map((line, place) => (
        <li key={line.interface_id}>
          <Link
            data-row
            to={trail.portOf(line.device_id, line.interface_id)}
            className="figures grid h-6 grid-cols-[14px_minmax(0,1fr)_80px_80px] items-center gap-2 border-b border-faint text-small hover:bg-lampsoft focus:bg-lampsoft"
          >
            <i className="size-[11px] bg-in" style={{ opacity: tint(place, lines.lines.length) }} />
            <span className="truncate">
              {line.label} <span className="text-ink2">{line.device}</span>
            </span>
            <span className="text-right text-in">
              <Figure of={rateOf(mean(line.in_bps))} />
            </span>
            <span className="text-right text-out">
              <Figure of={rateOf(mean(line.out_bps))} />
            </span>
          </Link>
        </li>
      ))}
      {rest > 0 && <li className="h-6 text-small leading-6 text-ink2">and {rest} more, in the total only</li>}
    </ol>
  );
}

/** One length of time up to the end of what is shown, small. */
function Look({
  words,
  seconds,
  end,
  filter,
}: {
  words: string;
  seconds: number;
  end: Date;
  filter: Parameters<typeof linesQuery>[0];
}) {
  const { show } = useSetScreenTime();
  const start = new Date(end.getTime() - seconds * 1000);
  const range = { start: start.toISOString(), end: end.toISOString() };
  const { data } = useQuery(linesQuery(filter, range, 120, 0));
  const open = () => show(start, end);
  return (
    <div>
      <button type="button" className="h-6 text-small underline" onClick={open}>
        {words}
      </button>
      {data && (
        <>
          <span className="figures ml-2 text-tiny text-ink2">
            in {told(mean(data.total.in_bps))}, out {told(mean(data.total.out_bps))}
          </span>
          <Both lines={data} />
        </>
      )}
    </div>
  );
}

const told = (bps: number | null) => (bps === null ? "–" : text(rate(bps)));

/** In as an area and out as a line, without axes. */
function Both({ lines }: { lines: Lines }) {
  const most = Math.max(1, peak(lines.total.in_bps), peak(lines.total.out_bps));
  const [width, height] = [260, 56];
  const path = (values: (number | null)[], close: boolean) => {
    let line = "";
    let open = false;
    values.forEach((value, place) => {
      const x = (place / Math.max(1, values.length - 1)) * width;
      if (value === null) {
        if (open && close) line += `L${x.toFixed(1)} ${height}`;
        open = false;
        return;
      }
      const y = height - (value / most) * (height - 2);
      line += open
        ? `L${x.toFixed(1)} ${y.toFixed(1)}`
        : `M${x.toFixed(1)} ${close ? `${height}L${x.toFixed(1)} ` : ""}${y.toFixed(1)}`;
      open = true;
    });
    return open && close ? `${line}L${width} ${height}` : line;
  };
  return (
    <svg
      viewBox={`0 0 ${width} ${height}`}
      preserveAspectRatio="none"
      className="h-14 w-full border-b border-rule"
      role="img"
      aria-label="Total in and out"
    >
      <path d={path(lines.total.in_bps, true)} fill="var(--in)" fillOpacity={0.85} />
      <path
        d={path(lines.total.out_bps, false)}
        fill="none"
        stroke="var(--out)"
        strokeWidth={1.4}
        vectorEffect="non-scaling-stroke"
      />
    </svg>
  );
}
