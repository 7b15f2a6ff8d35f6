import { useQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import { topQuery } from "../../api/queries";
import { useRowKeys } from "../../app/keys";
import { useScreenTime, useTimeSearch } from "../../app/screenTime";
import { usePlace } from "../../app/usePlace";
import { useSetSearch } from "../../app/useSetSearch";
import { Figure } from "../../components/Figure";
import { day, month, percent, range as rangeText, rate, volume } from "../../components/format";
import { InlineToggles } from "../../components/InlineToggles";
import { LoadBar } from "../../components/LoadBar";
import { Problem } from "../../components/Problem";
import { keyOf, MEASURES } from "./measures";
import { PlaceChoice, PlanHead } from "./PlanHead";

const COLUMNS =
  "grid-cols-[26px_minmax(150px,1.4fr)_minmax(110px,0.9fr)_minmax(80px,0.6fr)_76px_minmax(90px,0.8fr)_76px_76px_76px_70px]";

/** Ports in the order of a measure over the time shown: busiest, worst, most changed, emptiest. */
export function TopLists() {
  const [search] = useSearchParams();
  const set = useSetSearch();
  const time = useScreenTime();
  const timeSearch = useTimeSearch();
  useRowKeys();
  const measure = MEASURES.find((each) => keyOf(each) === search.get("by")) ?? MEASURES[0];
  const { place } = usePlace();
  const { data, error } = useQuery({
    ...topQuery(time.range, {
      by: measure?.name ?? "load",
      ...(measure?.lowest ? { lowest: true } : {}),
      ...place,
    }),
  });
  if (!measure) return null;
  const tenth = (value: number) => `${Math.floor(value * 1000) / 10} %`;
  return (
    <div className="flex h-full flex-col px-4 pt-3">
      <PlanHead
        words={
          data && `${data.ports.toLocaleString("en")} ports, ${rangeText(new Date(data.start), new Date(data.end))}`
        }
      />
      <div className="flex flex-wrap items-center gap-x-3 border-b border-rule py-1.5 text-small">
        <InlineToggles
          label="Sort by"
          value={keyOf(measure)}
          options={MEASURES.map((each) => [keyOf(each), each.words])}
          onChoose={(by) => set({ by: by === "load" ? "" : by })}
        />
        <PlaceChoice />
      </div>
      <Problem error={error} />
      {data?.rows.length === 0 && <p className="py-2 text-ink2">Nothing was measured in this time.</p>}
      <div className={`grid ${COLUMNS} gap-2.5 border-b border-rule py-1 text-small text-ink2`}>
        <span />
        <span>port</span>
        <span>device</span>
        <span>role</span>
        <span className="text-right text-ink" title={measure.title}>
          {measure.words}
        </span>
        <span>mean load</span>
        <span className="text-right">in</span>
        <span className="text-right">out</span>
        <span className="text-right">volume</span>
        <span className="text-right">{measure.lowest ? "last used" : "measured"}</span>
      </div>
      <ol className="min-h-0 grow overflow-auto">
        {data?.rows.map((row, place) => (
          <li key={row.id}>
            <Link
              data-row
              to={`/fleet/port/${row.id}${timeSearch({ device: String(row.device_id) })}`}
              className={`figures grid ${COLUMNS} h-7 items-center gap-2.5 border-b border-faint hover:bg-lampsoft focus:bg-lampsoft`}
            >
              <span className="text-right text-ink2">{place + 1}</span>
              <span className="truncate">
                {row.label} {row.label !== row.name && <span className="text-ink2">{row.name}</span>}
              </span>
              <span className="truncate">{row.device}</span>
              <span className="truncate text-ink2">{row.role}</span>
              <b className="text-right font-semibold">
                <Figure of={measure.figure(row)} />
              </b>
              <span className="grid grid-cols-[1fr_34px] items-center gap-1.5">
                <LoadBar inPercent={row.in_percent} outPercent={row.out_percent} />
                <span className="text-right">{percent(row.load)}</span>
              </span>
              <span className="text-right">
                <Figure of={row.in_bps === null ? null : rate(row.in_bps)} />
              </span>
              <span className="text-right">
                <Figure of={row.out_bps === null ? null : rate(row.out_bps)} />
              </span>
              <span className="text-right">
                <Figure of={volume(row.volume)} />
              </span>
              <span className="text-right text-ink2">
                {measure.lowest ? <LastUsed at={row.last_used} /> : tenth(row.measured)}
              </span>
            </Link>
          </li>
        ))}
      </ol>
    </div>
  );
}

/** The day on which a port last carried anything. */
function LastUsed({ at }: { at: string | null }) {
  if (!at) return <>never</>;
  const time = new Date(at);
  return (
    <>
      {day(time)} {month(time)}
    </>
  );
}
