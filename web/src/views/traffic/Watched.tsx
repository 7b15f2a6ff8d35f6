import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { Link } from "react-router";
import {
  endWatching,
  type TrafficFilter,
  type WatchedTraffic,
  watchedQuery,
  watchTraffic,
} from "../../api/trafficQueries";
import { useMay } from "../../app/session";
import { rate, text, wait } from "../../components/format";
import { Severity } from "../../components/Severity";

/** Watched traffic with its rate now and the levels of rules about it; and watching what is shown. */
export function Watched({ filter }: { filter: TrafficFilter }) {
  const { data } = useQuery({ ...watchedQuery, refetchInterval: 60_000 });
  const mayWatch = useMay()("engineer", true);
  if (!data || (data.length === 0 && !mayWatch)) return null;
  return (
    <>
      <h2 className="heading mt-3">Watched</h2>
      <ul className="figures text-small">
        {data.map((each) => (
          <Row key={each.id} watched={each} mayChange={mayWatch} />
        ))}
      </ul>
      {mayWatch && <WatchThis filter={filter} />}
    </>
  );
}

function Row({ watched, mayChange }: { watched: WatchedTraffic; mayChange: boolean }) {
  const queries = useQueryClient();
  const end = useMutation({
    mutationFn: () => endWatching(watched.id),
    onSuccess: () => queries.invalidateQueries({ queryKey: watchedQuery.queryKey }),
  });
  const [armed, setArmed] = useState(false);
  const rule = `/alarms/rules/new?${new URLSearchParams({ measure: "traffic_rate", scope: `traffic is "${watched.name}"` })}`;
  return (
    <li className="border-b border-dotted border-rule py-[3px]">
      <div className="grid grid-cols-[minmax(0,1fr)_78px] gap-2">
        <Link className="truncate font-medium hover:underline" to={`/traffic?${new URLSearchParams(watched.filters)}`}>
          {watched.name}
        </Link>
        <span className="text-right">{watched.rate_bps === null ? "–" : text(rate(watched.rate_bps))}</span>
      </div>
      {FIGURES.map(({ of, measure, name, write }) => {
        const limits = watched.limits.filter((each) => each.measure === measure);
        if (limits.length === 0 && (of === "rate_bps" || watched[of] === null)) return null;
        return (
          <p key={of} className="flex flex-wrap items-center gap-x-2 text-ink2">
            {of !== "rate_bps" && (
              <Link
                className="hover:underline"
                to={`/traffic?${new URLSearchParams({ ...watched.filters, list: "times" })}`}
              >
                {name} {watched[of] === null ? "not told" : <b className="font-medium text-ink">{wait(watched[of])}</b>}
              </Link>
            )}
            {limits.map((each) => (
              <Link
                key={`${each.rule_id} ${each.severity}`}
                className="inline-flex items-center gap-1 hover:underline"
                to={`/alarms/rules/${each.rule_id}`}
                title={each.rule}
              >
                <Severity level={each.severity} size="11" /> {each.direction === "below" && "below "}
                {write(each.limit)}
                {of === "rate_bps" && share(watched[of], each.limit)}
              </Link>
            ))}
          </p>
        );
      })}
      <p className="flex flex-wrap items-center gap-x-2 text-ink2">
        {watched.limits.length === 0 && <span>no limit</span>}
        {mayChange && (
          <>
            <Link className="underline" to={rule}>
              new rule
            </Link>
            <button
              type="button"
              className={armed ? "text-critical underline" : "underline"}
              onBlur={() => setArmed(false)}
              onClick={() => (armed ? end.mutate() : setArmed(true))}
            >
              {armed ? "really end" : "end"}
            </button>
          </>
        )}
      </p>
    </li>
  );
}

const FIGURES = [
  { of: "rate_bps", measure: "traffic_rate", name: "", write: (value: number) => text(rate(value)) },
  { of: "network_ms", measure: "traffic_network_ms", name: "network", write: wait },
  { of: "server_ms", measure: "traffic_server_ms", name: "server", write: wait },
] as const;
const share = (value: number | null, limit: number) =>
  value !== null && limit > 0 ? ` (${Math.round((100 * value) / limit)} %)` : "";

function WatchThis({ filter }: { filter: TrafficFilter }) {
  const queries = useQueryClient();
  const [name, setName] = useState("");
  const watch = useMutation({
    mutationFn: () => watchTraffic(name, filter),
    onSuccess: () => {
      setName("");
      void queries.invalidateQueries({ queryKey: watchedQuery.queryKey });
    },
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    watch.mutate();
  };
  return (
    <form className="mt-1 flex gap-2 text-small" onSubmit={submit}>
      <input
        className="field min-w-0 grow"
        aria-label="Name for the traffic that is shown"
        placeholder="a name for what is shown"
        maxLength={120}
        value={name}
        onChange={(event) => setName(event.target.value)}
      />
      <button type="submit" className="button" disabled={!name.trim() || watch.isPending}>
        Watch it
      </button>
      {watch.error && (
        <p role="alert" className="text-critical">
          {watch.error.message}
        </p>
      )}
    </form>
  );
}
