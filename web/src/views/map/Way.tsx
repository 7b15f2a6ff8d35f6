import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { wayQuery } from "../../api/topologyQueries";
import { useScreenTime, useTimeSearch } from "../../app/screenTime";
import { useSetSearch } from "../../app/useSetSearch";
import { counted, percent } from "../../components/format";
import { Problem } from "../../components/Problem";
import { Severity } from "../../components/Severity";
import { laneWords } from "./MapHover";
import { useMapShow } from "./MapTools";
import { linkKey, type MapLink } from "./mapGeometry";

/** Two ends, between which the way is looked for: devices, ports, addresses, MAC addresses. */
export function WayForm() {
  const { start, goal } = useMapShow();
  const set = useSetSearch();
  return (
    <form
      key={`${start} ${goal}`}
      aria-label="The way between two ends"
      className="mt-1 grid grid-cols-2 gap-1.5"
      onSubmit={(event) => {
        event.preventDefault();
        const form = new FormData(event.currentTarget);
        set({ start: String(form.get("start")).trim(), goal: String(form.get("goal")).trim(), pick: "" });
      }}
    >
      <input
        name="start"
        aria-label="From"
        placeholder="device, address, MAC"
        className="field min-w-0"
        defaultValue={start}
      />
      <input
        name="goal"
        aria-label="To"
        placeholder="device, address, MAC"
        className="field min-w-0"
        defaultValue={goal}
      />
      <button type="submit" className="button col-span-2 justify-self-start">
        Show the way
      </button>
    </form>
  );
}

/** The way hop by hop, with what each link carries; others; and whether it was another one a day before. */
export function Way() {
  const time = useScreenTime();
  const { start, goal } = useMapShow();
  const set = useSetSearch();
  const { data, error } = useQuery(wayQuery(start, goal, time.at));
  const [first, ...others] = data?.ways ?? [];
  return (
    <section aria-label="The way">
      <h2 className="flex items-baseline gap-2 text-large font-semibold">
        The way from {data?.start.name ?? start} to {data?.goal.name ?? goal}
        <button
          type="button"
          className="ml-auto text-small font-normal underline"
          onClick={() => set({ start: "", goal: "" })}
        >
          close
        </button>
      </h2>
      <WayForm />
      <Problem error={error} />
      {data?.notes.map((note) => (
        <p key={note} className="mt-1 text-ink2">
          {note}.
        </p>
      ))}
      {data && !first && <p className="mt-2">No way is known: no links lead from one to the other.</p>}
      {data?.is_broken && first && (
        <p className="mt-2 text-critical">There is none now: this is the one that was, with links that are down.</p>
      )}
      {first?.length === 0 && data && (
        <p className="mt-2">
          Both are at {data.start.name === data.goal.name ? "the same place" : "the same device"}: no link is between
          them.
        </p>
      )}
      {first && first.length > 0 && <Hops way={first} />}
      {data && data.unseen.length > 0 && (
        <p className="mt-1 text-ink2">
          Nothing is seen inside {data.unseen.join(" and ")}: it is not in the inventory.
        </p>
      )}
      {data && data.yesterday.length > 0 && (
        <p className="mt-2">
          A day before it led over <b className="font-medium">{data.yesterday.join(" – ")}</b>.
        </p>
      )}
      {others.map((way, place) => (
        <div key={way.map((hop) => hop.b.node).join(" ")}>
          <h3 className="heading mt-3">
            {place === 0 ? "Another way" : "A third one"}{" "}
            <span className="font-normal text-ink2">
              {counted(way.length, "link")}, {sharedWords(first ?? [], way)}
            </span>
          </h3>
          <Hops way={way} />
        </div>
      ))}
      {first && others.length === 0 && !data?.is_broken && first.length > 0 && (
        <p className="mt-2 text-ink2">No second way is known.</p>
      )}
    </section>
  );
}

/** How many links a way shares with another one. */
function sharedWords(first: MapLink[], way: MapLink[]) {
  const shared = way.filter((hop) => first.some((other) => linkKey(other) === linkKey(hop))).length;
  return shared ? `${shared} of them shared` : "none shared";
}

function Hops({ way }: { way: MapLink[] }) {
  return (
    <table className="figures mt-2 w-full text-small">
      <thead>
        <tr className="text-left text-ink2 *:pr-2 *:font-normal">
          <th>from</th>
          <th>to</th>
          <th className="text-right">there</th>
          <th className="text-right">back</th>
        </tr>
      </thead>
      <tbody>
        {way.map((hop) => (
          <tr
            key={`${hop.a.node} ${hop.b.node} ${hop.a.interface_id}`}
            className="border-t border-faint *:py-[3px] *:pr-2"
          >
            <td>
              <HopEnd end={hop.a} />
            </td>
            <td>
              <HopEnd end={hop.b} />
            </td>
            {hop.state === "up" ? (
              <>
                <Load lane={hop.there} />
                <Load lane={hop.back} />
              </>
            ) : (
              <td colSpan={2} className="text-right text-critical">
                {hop.state === "down" ? "down" : hop.state === "silent" ? "no answer" : "–"}
              </td>
            )}
          </tr>
        ))}
      </tbody>
    </table>
  );
}

function Load({ lane }: { lane: Schemas["MapLane"] }) {
  return (
    <td className="text-right whitespace-nowrap" title={laneWords(lane)}>
      {lane.percent === null ? "–" : `${percent(lane.percent)} %`}
    </td>
  );
}

function HopEnd({ end }: { end: Schemas["MapEnd"] }) {
  const search = useTimeSearch();
  return (
    <>
      {end.severity > 0 && (
        <span className="mr-1 inline-block align-[-2px]">
          <Severity level={end.severity} size="12" />
        </span>
      )}
      {end.device}{" "}
      {end.interface_id && (
        <Link className="underline" to={`/fleet/port/${end.interface_id}${search()}`}>
          {end.name}
        </Link>
      )}
    </>
  );
}
