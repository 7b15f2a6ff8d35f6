import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Link, useSearchParams } from "react-router";
import type { Schemas } from "../../api/client";
import { LOOKED, liveQuery, seriesQuery, stopLooking } from "../../api/queries";
import { useScreenTime, useSetScreenTime } from "../../app/screenTime";
import { useSetSearch } from "../../app/useSetSearch";
import { LiveChart, type Rates } from "../../charts/LiveChart";
import { duration, percent, rate, text } from "../../components/format";
import { InlineChoice } from "../../components/InlineChoice";
import { Problem } from "../../components/Problem";
import { ListHead } from "./ListHead";
import { liveRates, topOf } from "./liveRates";
import { usePicked } from "./picked";
import { useTrail } from "./trail";

type Port = Schemas["LivePort"];
const EVERY = ["1", "2", "5", "10"].map((each) => [each, `${each} s`] as const);
/** Nobody looks for that long without a move: the looking pauses, and says so. */
const ATTENTION = 30 * 60_000;

/** Whether somebody has moved within the last half hour, and what lets the looking go on. */
function useAttention(): [boolean, (on: boolean) => void] {
  const [on, setOn] = useState(true);
  useEffect(() => {
    if (!on) return;
    let timer = setTimeout(() => setOn(false), ATTENTION);
    const moved = () => {
      clearTimeout(timer);
      timer = setTimeout(() => setOn(false), ATTENTION);
    };
    const signs = ["pointermove", "keydown"] as const;
    for (const sign of signs) addEventListener(sign, moved);
    return () => {
      clearTimeout(timer);
      for (const sign of signs) removeEventListener(sign, moved);
    };
  }, [on]);
  return [on, setOn];
}

/** The chosen ports, looked at every few seconds for as long as this is open. */
export function Live() {
  const [search] = useSearchParams();
  const set = useSetSearch();
  const time = useScreenTime();
  const { follow } = useSetScreenTime();
  const { picked } = usePicked();
  const [on, setOn] = useAttention();
  const every = Number(EVERY.find(([value]) => value === search.get("every"))?.[0] ?? 2);
  const looking = on && picked.length > 0 && time.following;
  const { data, error } = useQuery({
    ...liveQuery(picked, every),
    enabled: looking,
    refetchInterval: (query) => (query.state.error ? 5_000 : every * 1000),
  });
  useEffect(() => () => void stopLooking().catch(() => undefined), []);
  return (
    <div className="flex h-full flex-col">
      <ListHead title="Live" count="" list="live" />
      {picked.length === 0 ? (
        <p className="px-3.5 py-2 text-ink2">
          Choose ports in the list of ports first, by the box at the start of each line; twelve at most.
        </p>
      ) : !time.following ? (
        <p className="px-3.5 py-2 text-ink2">
          The screen is at a past time, and live is now.{" "}
          <button type="button" className="underline" onClick={() => follow()}>
            Back to now
          </button>
        </p>
      ) : (
        <>
          <p className="flex flex-wrap items-center gap-x-4 border-b border-rule px-3.5 py-1 text-small">
            <InlineChoice
              label="interval"
              value={String(every)}
              options={EVERY}
              onChoose={(each) => set({ every: each === "2" ? "" : each })}
            />
            <button type="button" className="h-6 underline" onClick={() => setOn(!on)}>
              {on ? "Pause" : "Go on"}
            </button>
            <span className="text-ink2">
              {on
                ? "It ends when this is closed or hidden. These readings are not stored."
                : "Paused: nothing is read."}
            </span>
          </p>
          <Problem error={error} />
          <div className="min-h-0 grow overflow-auto px-3.5 pb-4">
            {data?.ports.map((port) => (
              <LivePort
                key={port.id}
                port={port}
                states={data.devices.filter((each) => each.id === port.device_id)}
                until={new Date(data.at)}
              />
            ))}
          </div>
        </>
      )}
    </div>
  );
}

const NOTHING: Rates = { at: [], in_bps: [], out_bps: [] };
const NO_GAPS: Schemas["GapOut"][] = [];

type PortProps = { port: Port; states: Schemas["LiveDevice"][]; until: Date };

/** One port: what it does now, the last ten minutes, and the last hour beside them on the same scale. */
function LivePort({ port, states, until }: PortProps) {
  const trail = useTrail();
  const time = useScreenTime();
  const start = new Date(time.end.getTime() - 3600_000);
  const { data: hour } = useQuery(seriesQuery(port.id, { start: start.toISOString(), end: time.range.end }));
  const looks = liveRates(port, hour ?? NOTHING);
  const end = new Date(Math.max(until.getTime(), (port.at.at(-1) ?? 0) * 1000));
  const since = new Date(end.getTime() - LOOKED * 1000);
  const top = topOf([looks, hour ?? NOTHING], since.getTime() / 1000);
  const covered = port.seconds.at(-1);
  const words = states.map((state) => state.words).filter(Boolean);
  return (
    <section className="grid grid-cols-[170px_minmax(0,1.4fr)_minmax(0,1fr)] gap-3 border-b border-rule py-2 max-lg:grid-cols-1">
      <div className="figures">
        <h3 className="truncate font-semibold">
          <Link className="hover:underline" to={trail.portOf(port.device_id, port.id)}>
            {port.label}
          </Link>
        </h3>
        <p className="truncate text-small text-ink2">{port.device}</p>
        <Newest way="in" bps={port.in_bps.at(-1)} speed={port.in_speed_bps} />
        <Newest way="out" bps={port.out_bps.at(-1)} speed={port.out_speed_bps} />
        <p className="pt-1 text-small text-ink2" role="status">
          {words.length
            ? words.join("; ")
            : covered
              ? `counted over ${covered.toFixed(1)} s`
              : "the first look counts nothing yet …"}
        </p>
      </div>
      <div>
        <p className="text-small text-ink2">the last ten minutes</p>
        <LiveChart
          rates={looks}
          gaps={hour?.gaps ?? NO_GAPS}
          top={top}
          start={since}
          end={end}
          height={124}
          label={`${port.label}, the last ten minutes`}
        />
      </div>
      <div>
        <p className="text-small text-ink2">the last hour{hour && `, mean of ${duration(hour.step_s)}`}</p>
        <LiveChart
          rates={hour ?? NOTHING}
          gaps={hour?.gaps ?? NO_GAPS}
          top={top}
          start={start}
          end={time.end}
          height={124}
          label={`${port.label}, the last hour`}
        />
      </div>
    </section>
  );
}

function Newest({ way, bps, speed }: { way: "in" | "out"; bps: number | undefined; speed: number }) {
  return (
    <p className="flex items-baseline gap-2 pt-0.5">
      <span className={`w-6 text-small ${way === "in" ? "text-in" : "text-out"}`}>{way}</span>
      <span className="text-title tracking-tight">{bps === undefined ? "–" : text(rate(bps))}</span>
      {bps !== undefined && speed > 0 && <span className="text-small text-ink2">{percent((100 * bps) / speed)} %</span>}
    </p>
  );
}
