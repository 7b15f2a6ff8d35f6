import { useQuery } from "@tanstack/react-query";
import { Link, useNavigate, useSearchParams } from "react-router";
import { type PathCourse, type PathMeasure, pathQuery } from "../../api/pathQueries";
import { useScreenTime, useSetScreenTime } from "../../app/screenTime";
import { useMay } from "../../app/session";
import { useSetSearch } from "../../app/useSetSearch";
import { DelayChart } from "../../charts/DelayChart";
import { LossChart } from "../../charts/LossChart";
import { moment, wait } from "../../components/format";
import { Problem } from "../../components/Problem";
import { Severity } from "../../components/Severity";
import { Beneath, PathAlarms } from "./Beneath";
import { PathForm } from "./PathForm";
import { className, EACH, firstLimit, isPacket, KINDS, MEASURES, PARTS, shown } from "./pathWords";
import { questionPage } from "./questionPage";
import { TracedRoutes } from "./TracedRoutes";

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
        {howMeasured(path)}, {className(path.dscp)}, since {moment(new Date(path.since))}
        {!path.enabled && ", not measured now"}
        {path.service_class && (
          <>
            ; service class{" "}
            <Link
              className="underline"
              to={`/paths?list=levels&by=path&class=${encodeURIComponent(path.service_class)}`}
            >
              {path.service_class}
            </Link>
          </>
        )}
        {path.transport && `, over ${path.transport} of ${path.provider}`}
        {path.from_site && (
          <Link
            className="ml-2 underline"
            to={questionPage(path.from_site, isPacket(path.kind) ? path.to_site : path.name)}
          >
            was it the network?
          </Link>
        )}
        {mayChange && (
          <button type="button" className="ml-2 underline" onClick={() => set({ edit: "path" })}>
            change
          </button>
        )}
      </p>
      {path.problem && <p className="text-critical">The last probe: {path.problem}.</p>}
      <PathAlarms path={path.id} />
      <Figures course={data} />
      {data.at.length === 0 ? (
        <p className="py-3 text-ink2">Nothing was measured in this time.</p>
      ) : (
        <>
          <h2 className="heading mt-2">
            Delay{" "}
            <span className="font-normal text-ink2">
              round trips of {EACH[data.step_s]}: 5th to 95th percentile, quartiles, median
            </span>
          </h2>
          <DelayChart {...charts} limit={firstLimit("path_delay_95", path)} />
          <h2 className="heading mt-2">
            Loss <span className="font-normal text-ink2">{lossWords(data)}</span>
          </h2>
          <LossChart {...charts} />
          {path.kind === "http" && <Parts course={data} />}
          <Beneath path={path} onZoom={charts.onZoom} onBack={charts.onBack} />
          <Directions course={data} />
          {path.traces && <TracedRoutes path={path.id} />}
        </>
      )}
      <Rules course={data} />
    </>
  );
}

function Figures({ course: { path } }: { course: PathCourse }) {
  return (
    <dl className="figures mt-2 flex flex-wrap gap-x-6 gap-y-1">
      {figuresOf(path).map(([measure, name, words]) => (
        <div key={measure} title={words}>
          <dt className="text-small text-ink2">{name}</dt>
          <dd className="text-large font-semibold">{shown(measure, path.figures[measure])}</dd>
        </div>
      ))}
    </dl>
  );
}

/** By what, whom and how often. */
function howMeasured({
  kind,
  prober,
  address,
  port,
  asked,
  every_ms,
  octets,
  device_name,
}: PathCourse["path"]): string {
  if (kind === "device")
    return `Test ${asked} of ${device_name || "a device that is gone"}${address ? `, to ${address}` : ""}`;
  const whom = `${asked || address}${asked && address ? ` at ${address}` : ""}${port ? ` port ${port}` : ""}`;
  const size = isPacket(kind) ? `, ${octets} octets` : "";
  return `${KINDS[kind]?.words ?? kind} from ${prober} to ${whom} every ${wait(every_ms)}${size}`;
}

/** Figures that mean something for how a path is measured. */
function figuresOf({ kind }: PathCourse["path"]): readonly (readonly [PathMeasure, string, string])[] {
  const meant = MEASURES.filter(([measure]) => (isPacket(kind) ? measure !== "path_failed" : measure !== "path_mos"));
  return kind === "http" ? [...meant, ["path_certificate", "certificate", "days until it ends"]] : meant;
}

/** Of what the time of a service is made up, in the mean. */
function Parts({ course: { path } }: { course: PathCourse }) {
  const known = PARTS.flatMap(([, measure, words]) => {
    const ms = path.figures[measure];
    return ms === null ? [] : [{ words, ms }];
  });
  const whole = known.reduce((sum, { ms }) => sum + ms, 0);
  if (whole === 0) return null;
  return (
    <>
      <h2 className="heading mt-2">
        Made up of <span className="font-normal text-ink2">in the mean, {wait(whole)} to the first octet</span>
      </h2>
      <ul className="figures text-small">
        {known.map(({ words, ms }) => (
          <li key={words} className="grid grid-cols-[90px_minmax(0,1fr)_70px] items-center gap-3 py-[2px]">
            <span>{words}</span>
            <span aria-hidden className="block h-3 bg-track">
              <span className="block h-full bg-ink" style={{ width: `${(100 * ms) / whole}%` }} />
            </span>
            <span className="text-right">{wait(ms)}</span>
          </li>
        ))}
      </ul>
    </>
  );
}

/** What was lost, in how many pieces. */
function lossWords({ path, longest_burst, duplicates, reordered, wrong }: PathCourse): string {
  const { sent, lost } = path.figures;
  const sum = (values: number[]) => values.reduce((one, other) => one + other, 0);
  const parts = [
    `${lost.toLocaleString("en-GB")} of ${sent.toLocaleString("en-GB")} probes`,
    lost > 0 && `at most ${Math.max(...longest_burst).toLocaleString("en-GB")} in a row`,
    sum(reordered) > 0 && `${sum(reordered).toLocaleString("en-GB")} came out of order`,
    sum(wrong) > 0 && `${sum(wrong).toLocaleString("en-GB")} answers were wrong`,
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
