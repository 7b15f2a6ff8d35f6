import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { trafficQuery } from "../../api/trafficQueries";
import { useScreenTime, useTimeSearch } from "../../app/screenTime";
import { rate, text } from "../../components/format";

const SHOWN = 4;

/** Who fills a port in the time shown, each direction by its largest conversations; nothing where its device sends no flow records. */
export function PortTraffic({ port }: { port: number }) {
  return (
    <div className="grid grid-cols-2 gap-4 max-lg:grid-cols-1">
      {(["in", "out"] as const).map((way) => (
        <Conversations key={way} port={port} way={way} />
      ))}
    </div>
  );
}

function Conversations({ port, way }: { port: number; way: "in" | "out" }) {
  const time = useScreenTime();
  const search = useTimeSearch();
  const { data } = useQuery(trafficQuery("conversation", { interface: String(port), way }, time.range, SHOWN));
  if (!data?.rows.length) return null;
  return (
    <section aria-label={`Who fills it, ${way}`} className="figures text-small">
      <h2 className="heading mt-2">
        <Link className="underline" to={`/traffic${search({ interface: String(port), way, by: "conversation" })}`}>
          Who fills it
        </Link>{" "}
        <b className={`font-semibold ${way === "in" ? "text-in" : "text-out"}`}>{way}</b>
      </h2>
      {data.rows.map((row) => (
        <p
          key={`${row.name} ${row.more}`}
          className="grid grid-cols-[minmax(0,1fr)_76px] gap-2 border-b border-dotted border-rule py-[3px]"
        >
          <span className="truncate" title={`${row.name} ${row.more}`}>
            {row.name} <span className="text-ink2">{row.more}</span>
          </span>
          <span className="text-right">{text(rate(row.bps))}</span>
        </p>
      ))}
    </section>
  );
}
