import { useQuery } from "@tanstack/react-query";
import { Link, useNavigate, useSearchParams } from "react-router";
import { type ResponseTimes as Data, responseTimesQuery, type TimesBy } from "../../api/trafficQueries";
import { useScreenTime, useSetScreenTime } from "../../app/screenTime";
import { useSetSearch } from "../../app/useSetSearch";
import { TrafficChart } from "../../charts/TrafficChart";
import { counted, wait } from "../../components/format";
import { InlineToggles } from "../../components/InlineToggles";
import { Problem } from "../../components/Problem";
import { NarrowLink } from "./NarrowLink";
import { useTrafficFilter } from "./trafficFilter";

const BY: readonly (readonly [TimesBy, string])[] = [
  ["application", "application"],
  ["server", "server"],
  ["site", "sites"],
  ["exporter", "exporter"],
];
/** By what the next step down is put together. */
const NEXT: Record<TimesBy, TimesBy> = {
  application: "server",
  server: "site",
  site: "application",
  exporter: "application",
};
const NETWORK = "layer1";
const SERVER = "layer4";

/** How long the network takes and how long servers do, as exporters tell. */
export function ResponseTimes() {
  const time = useScreenTime();
  const { show, follow } = useSetScreenTime();
  const navigate = useNavigate();
  const [search] = useSearchParams();
  const set = useSetSearch();
  const filter = useTrafficFilter();
  const by = BY.find(([name]) => name === search.get("by"))?.[0] ?? "application";
  const { data, error } = useQuery(responseTimesQuery(by, filter, time.range));
  if (error) return <Problem error={error} />;
  if (!data) return null;
  if (data.number === 0) return <Nothing />;
  const layers = [
    { name: "network", token: NETWORK, values: data.network },
    { name: "server", token: SERVER, values: data.server },
  ];
  return (
    <>
      <p className="py-1 text-small">
        In the mean{" "}
        <Key token={NETWORK}>
          the network took <b className="font-semibold">{shown(data.whole.network)}</b>
        </Key>{" "}
        and{" "}
        <Key token={SERVER}>
          servers took <b className="font-semibold">{shown(data.whole.server)}</b>
        </Key>{" "}
        <span className="text-ink2">
          for an answer; the longest {longest(data.whole.network)} and {longest(data.whole.server)}.
        </span>
      </p>
      <TrafficChart
        at={data.at}
        layers={layers}
        counter={null}
        speed={null}
        of="Response times"
        write={wait}
        least={1}
        start={time.start}
        end={time.end}
        onZoom={show}
        onBack={() => (time.following ? follow(time.span ?? undefined) : navigate(-1))}
      />
      <div className="mt-2 flex flex-wrap items-baseline gap-x-3 border-b border-rule text-small">
        <h2 className="heading grow border-0">
          {counted(data.number, by === "site" ? "pair" : by)}{" "}
          <span className="font-normal text-ink2">the slowest first</span>
        </h2>
        <span className="flex flex-wrap items-center gap-x-1 text-ink2">
          by <InlineToggles label="Put together by" value={by} options={BY} onChoose={(each) => set({ by: each })} />
          {(["csv", "parquet"] as const).map((format) => (
            <a key={format} className="ml-2 inline-block min-h-6 underline" href={fileOf(by, filter, data, format)}>
              {format === "csv" ? "CSV" : "Parquet"}
            </a>
          ))}
        </span>
      </div>
      <Rows data={data} by={by} />
    </>
  );
}

const GRID =
  "grid-cols-[minmax(0,1.4fr)_minmax(0,1fr)_minmax(80px,1fr)_72px_72px_78px_72px] max-md:grid-cols-[minmax(0,1fr)_66px_66px]";
const WIDE = "max-md:hidden";

function Rows({ data: { rows, number }, by }: { data: Data; by: TimesBy }) {
  const most = Math.max(...rows.map((row) => (row.network.ms ?? 0) + (row.server.ms ?? 0)), 0.001);
  return (
    <>
      <div className={`grid ${GRID} gap-x-2 border-b border-rule text-small text-ink2`}>
        <span />
        <span className={WIDE} />
        <span className={WIDE} />
        <span className="text-right">network</span>
        <span className="text-right">server</span>
        <span className={`text-right ${WIDE}`}>longest</span>
        <span className={`text-right ${WIDE}`}>answers</span>
      </div>
      <ul className="figures">
        {rows.map((row) => (
          <li
            key={`${row.name} ${row.more}`}
            className={`grid ${GRID} items-center gap-x-2 border-b border-faint py-[4px] hover:bg-lampsoft`}
          >
            <NarrowLink row={row} next={NEXT[by]} />
            <span className={`truncate text-ink2 ${WIDE}`}>{row.more}</span>
            <span className={`flex ${WIDE}`} aria-hidden>
              <Part token={NETWORK} share={(row.network.ms ?? 0) / most} />
              <Part token={SERVER} share={(row.server.ms ?? 0) / most} />
            </span>
            <span className="text-right">{shown(row.network)}</span>
            <span className="text-right">{shown(row.server)}</span>
            <span className={`text-right text-ink2 ${WIDE}`}>
              {wait(Math.max(row.network.longest_ms ?? 0, row.server.longest_ms ?? 0))}
            </span>
            <span className={`text-right text-ink2 ${WIDE}`}>
              {Math.max(row.network.number, row.server.number).toLocaleString("en-GB")}
            </span>
          </li>
        ))}
      </ul>
      {number > rows.length && (
        <p className="py-1 text-ink2">and {(number - rows.length).toLocaleString("en-GB")} that are faster</p>
      )}
    </>
  );
}

type Mean = Data["whole"]["network"];
const shown = ({ ms }: Mean) => (ms === null ? "–" : wait(ms));
const longest = ({ longest_ms }: Mean) => (longest_ms === null ? "–" : wait(longest_ms));

function Part({ token, share }: { token: string; share: number }) {
  return <span className="block h-2" style={{ width: `${100 * share}%`, background: `var(--${token})` }} />;
}

/** Words with the colour that they have in the chart. */
function Key({ token, children }: { token: string; children: React.ReactNode }) {
  return (
    <span>
      <span aria-hidden className="mr-1 inline-block h-3 w-3 align-[-1px]" style={{ background: `var(--${token})` }} />
      {children}
    </span>
  );
}

/** Where the same rows are had as a file. */
function fileOf(by: TimesBy, filter: Record<string, string>, { start, end }: Data, format: string): string {
  return `/api/v1/traffic/response-times/export?${new URLSearchParams({ ...filter, by, start, end, format })}`;
}

function Nothing() {
  return (
    <p className="max-w-[640px] py-3 text-ink2">
      No exporter told of response times here. Those that measure them send them in fields of their own; which ones, is
      said in the{" "}
      <Link className="underline" to="/setup/traffic">
        set-up of traffic
      </Link>
      . Bidirectional flows of TCP (RFC 5103) tell of the network by themselves.
    </p>
  );
}
