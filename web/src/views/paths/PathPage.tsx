import { useQuery } from "@tanstack/react-query";
import { Link, useNavigate, useSearchParams } from "react-router";
import { type PathCourse, pathQuery } from "../../api/pathQueries";
import { useScreenTime, useSetScreenTime } from "../../app/screenTime";
import { useMay } from "../../app/session";
import { useSetSearch } from "../../app/useSetSearch";
import { DelayChart } from "../../charts/DelayChart";
import { LossChart } from "../../charts/LossChart";
import { moment, wait } from "../../components/format";
import { Problem } from "../../components/Problem";
import { Severity } from "../../components/Severity";
import { PathForm } from "./PathForm";
import { className, firstLimit, MEASURES, shown } from "./pathWords";

/** One path over the screen's time. */
export function PathPage({ number }: { number: number }) {
  const time = useScreenTime();
  const { show, follow } = useSetScreenTime();
  const navigate = useNavigate();
  const [search] = useSearchParams();
  const set = useSetSearch();
  const mayChange = useMay()("engineer", true);
  const { data, error } = useQuery(pathQuery(number, time.range));
  if (error) return <Problem error={error} />;
  if (!data) return null;
  const { path } = data;
  if (search.get("edit") === "path") return <PathForm path={path} onDone={() => set({ edit: "" })} />;
  const charts = {
    course: data,
    start: time.start,
    end: time.end,
    onZoom: show,
    onBack: () => (time.following ? follow(time.span ?? undefined) : navigate(-1)),
  };
  return (
    <>
      <h1 className="text-title font-semibold tracking-tight">{path.name}</h1>
      <p className="text-small text-ink2">
        STAMP from {path.prober} to {path.address} port {path.port} every {wait(path.every_ms)}, {path.octets} octets,{" "}
        {className(path.dscp)}, since {moment(new Date(path.since))}
        {!path.enabled && ", not measured now"}
        {mayChange && (
          <button type="button" className="ml-2 underline" onClick={() => set({ edit: "path" })}>
            change
          </button>
        )}
      </p>
      {path.problem && <p className="text-critical">Its probes cannot be sent: {path.problem}.</p>}
      <Figures course={data} />
      {data.at.length === 0 ? (
        <p className="py-3 text-ink2">Nothing was measured in this time.</p>
      ) : (
        <>
          <h2 className="heading mt-2">
            Delay{" "}
            <span className="font-normal text-ink2">
              round trips of each {data.step_s === 60 ? "minute" : "hour"}: 5th to 95th percentile, quartiles, median
            </span>
          </h2>
          <DelayChart {...charts} limit={firstLimit("path_delay_95", path)} />
          <h2 className="heading mt-2">
            Loss <span className="font-normal text-ink2">{lossWords(data)}</span>
          </h2>
          <LossChart {...charts} />
          <Directions course={data} />
        </>
      )}
      <Rules course={data} />
    </>
  );
}

function Figures({ course: { path } }: { course: PathCourse }) {
  return (
    <dl className="figures mt-2 flex flex-wrap gap-x-6 gap-y-1">
      {MEASURES.map(([measure, name, words]) => (
        <div key={measure} title={words}>
          <dt className="text-small text-ink2">{name}</dt>
          <dd className="text-large font-semibold">{shown(measure, path.figures[measure])}</dd>
        </div>
      ))}
    </dl>
  );
}

/** What was lost, in how many pieces. */
function lossWords({ path, longest_burst, duplicates, reordered }: PathCourse): string {
  const { sent, lost } = path.figures;
  const sum = (values: number[]) => values.reduce((one, other) => one + other, 0);
  const parts = [
    `${lost.toLocaleString("en-GB")} of ${sent.toLocaleString("en-GB")} probes`,
    lost > 0 && `at most ${Math.max(...longest_burst).toLocaleString("en-GB")} in a row`,
    sum(reordered) > 0 && `${sum(reordered).toLocaleString("en-GB")} came out of order`,
    sum(duplicates) > 0 && `${sum(duplicates).toLocaleString("en-GB")} came twice`,
  ];
  return parts.filter(Boolean).join(", ");
}

/** Each direction by itself, as far as the two clocks agree. */
function Directions({ course: { out, back } }: { course: PathCourse }) {
  const mean = (values: (number | null)[]) => {
    const known = values.filter((value) => value !== null);
    return known.length ? known.reduce((one, other) => one + other, 0) / known.length : null;
  };
  const [there, again] = [mean(out), mean(back)];
  if (there === null || again === null) return null;
  const agree = there > 0 && again > 0;
  return (
    <p className="py-1 text-small text-ink2">
      {agree
        ? `By the clocks of both ends ${wait(there)} there and ${wait(again)} back; as right as these clocks are.`
        : "The clocks of both ends do not agree, so each direction cannot be told by itself."}
    </p>
  );
}

function Rules({ course: { path } }: { course: PathCourse }) {
  const rule = new URLSearchParams({ measure: "path_delay_95", scope: `path is "${path.name}"` });
  return (
    <>
      <h2 className="heading mt-2">Levels of rules</h2>
      <ul className="text-small">
        {path.limits.map((each) => (
          <li key={`${each.rule_id} ${each.severity}`} className="flex items-center gap-2 border-b border-faint py-1">
            <Severity level={each.severity} size="11" />
            <Link className="underline" to={`/alarms/rules/${each.rule_id}`}>
              {each.rule}
            </Link>
            <span className="text-ink2">
              {MEASURES.find(([measure]) => measure === each.measure)?.[1] ?? each.measure} {each.direction}{" "}
              {shown(each.measure as (typeof MEASURES)[number][0], each.limit)}
            </span>
          </li>
        ))}
        {path.limits.length === 0 && <li className="py-1 text-ink2">No rule is about this path.</li>}
      </ul>
      <Link className="text-small underline" to={`/alarms/rules/new?${rule}`}>
        new rule
      </Link>
    </>
  );
}
