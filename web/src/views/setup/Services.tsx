import { useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { healthQuery } from "../../api/queries";
import { servicesQuery } from "../../api/setupQueries";
import { counted, duration, moment } from "../../components/format";
import { Problem } from "../../components/Problem";
import { Severity } from "../../components/Severity";
import { useClock } from "../../components/useClock";

type Process = Schemas["ProcessOut"];

/** What Lumtar consists of just now, how far each part is, and what is not being done. */
export function Services() {
  const { data: health } = useQuery(healthQuery);
  const { data, error } = useQuery(servicesQuery);
  const now = useClock();
  if (!data) return <Problem error={error} />;
  return (
    <div className="max-w-[980px]">
      <h1 className="text-title font-semibold tracking-tight">Services</h1>
      <p className="mb-2 text-ink2">
        {health?.ok
          ? "Everything is running."
          : "Each problem is also an alarm; the rule “Lumtar itself” says who is called."}
      </p>
      {health?.troubles.map((trouble) => (
        <p key={trouble.subject} className="flex items-center gap-2 border-b border-faint py-1">
          <Severity level={trouble.severity} /> {trouble.words}
        </p>
      ))}
      <h2 className="heading mt-3">Running now</h2>
      {data.processes.map((process) => (
        <Row key={process.name} process={process} now={now} data={data} />
      ))}
      <h2 className="heading mt-4">Periodic jobs</h2>
      {data.jobs.length === 0 && <p className="text-ink2">No runs yet.</p>}
      {data.jobs.map((job) => (
        <Line key={job.name} name={job.name} mark={job.words === ""}>
          {job.words ? (
            <span className="text-critical">
              failed {job.failed_at && moment(new Date(job.failed_at))}: {job.words}
            </span>
          ) : (
            <>done {job.succeeded_at && duration((now - Date.parse(job.succeeded_at)) / 1000)} ago</>
          )}
          <span className="text-ink2">
            {" "}
            · every {duration(job.every_s)}
            {job.took_ms !== null && `, took ${duration(job.took_ms / 1000)}`}
          </span>
        </Line>
      ))}
    </div>
  );
}

function Line({ name, mark, children }: { name: string; mark: boolean; children: ReactNode }) {
  return (
    <div className="figures grid grid-cols-[150px_minmax(0,1fr)] gap-2 border-b border-faint py-1.5">
      <span className="flex gap-2">
        <b className={mark ? "text-in" : "text-critical"}>
          <span aria-hidden>{mark ? "✓" : "✕"}</span>
          <span className="sr-only">{mark ? "well" : "wrong"}</span>
        </b>
        {name}
      </span>
      <span className="min-w-0">{children}</span>
    </div>
  );
}

function Row({ process, now, data }: { process: Process; now: number; data: Schemas["ServicesOut"] }) {
  const seen = process.beat_at && (now - Date.parse(process.beat_at)) / 1000;
  if (!process.alive)
    return (
      <Line name={process.name} mark={false}>
        <span className="text-critical">
          is not running{process.beat_at ? `, last heard of ${moment(new Date(process.beat_at))}` : ""}
        </span>
      </Line>
    );
  const runs = process.started_at ? `runs for ${duration((now - Date.parse(process.started_at)) / 1000)}` : "runs";
  const held = data.collectors.find((each) => each.name === process.name)?.shares ?? 0;
  const said = SAID[process.kind]?.(process, now, held / data.shares) ?? restarts(process.detail);
  return (
    <Line name={process.name} mark={!process.trouble}>
      {process.trouble && <p className="text-critical">{process.trouble}</p>}
      <p>
        {runs} <span className="text-ink2">· heartbeat {duration(seen || 0)} ago</span>
      </p>
      <ul className="text-ink2">
        {said.map((words) => (
          <li key={words}>{words}</li>
        ))}
      </ul>
      <Strangers detail={process.detail} />
    </Line>
  );
}

const count = (value: unknown) => Number(value ?? 0).toLocaleString("en-GB");

/** What services of each kind say of themselves. */
const SAID: Record<string, (process: Process, now: number, share: number) => string[]> = {
  collector: (process, _, share) => collector(process, share),
  worker,
  receiver,
  flows,
};

function receiver({ detail }: Process): string[] {
  const d = detail as Record<string, number>;
  return [
    `listens for traps at ${d.listens_at}: ${count(d.taken)} taken since its start, ${count(d.refused)} not taken`,
    d.dropped ? `${count(d.dropped)} dropped since too many came at once` : "",
    ...restarts(detail),
  ].filter(Boolean);
}

function flows({ detail }: Process): string[] {
  const d = detail as Record<string, number>;
  return [
    `listens for flows at ${d.listens_at}: ${count(d.records)} records of ${count(d.datagrams)} datagrams taken since its start, ${count(d.written_rows)} rows stored`,
    d.unknown_records ? `${count(d.unknown_records)} records came from exporters that belong to no device` : "",
    d.malformed ? `${count(d.malformed)} datagrams could not be understood` : "",
    d.dropped ? `${count(d.dropped)} dropped since too many came at once` : "",
    ...restarts(detail),
  ].filter(Boolean);
}

type Stranger = { address: string; times: number; why: string; at: number };

/** Who sent traps or flows that were not taken, and why. */
function Strangers({ detail }: { detail: Process["detail"] }) {
  const strangers = (detail as { strangers?: Stranger[] }).strangers ?? [];
  if (strangers.length === 0) return null;
  return (
    <details className="mt-1">
      <summary className="min-h-6 cursor-pointer">
        {counted(strangers.length, "address")} sent what was not taken
      </summary>
      <ul>
        {strangers.map(({ address, times, why, at }) => (
          <li key={address} className="flex flex-wrap gap-x-2 py-[2px]">
            <b className="font-medium">{address}</b>
            <span>
              {why}; {times} {times === 1 ? "time" : "times"}, last {moment(new Date(1000 * at))}
            </span>
            {why.includes("inventory") && (
              <Link className="underline" to={`/setup/add?address=${encodeURIComponent(address)}`}>
                add it
              </Link>
            )}
          </li>
        ))}
      </ul>
    </details>
  );
}

function collector({ detail, started_at, beat_at }: Process, share: number): string[] {
  const d = detail as Record<string, number>;
  const ran = started_at && beat_at ? (Date.parse(beat_at) - Date.parse(started_at)) / 1000 : 0;
  const said = [
    `polls ${count(d.devices)} devices with ${count(d.interfaces)} interfaces (${(100 * share).toFixed(0)} % of all shares), ${d.lag_s ? `${d.lag_s} s behind` : "on time"}`,
    `${count(d.written_rows)} readings stored since its start, ${count(d.waiting_rows)} wait${d.oldest_waiting_s ? `, the oldest for ${duration(d.oldest_waiting_s)}` : ""}`,
    ran > 60 ? `${((100 * (d.cpu_s ?? 0)) / ran).toFixed(0)} % of a core` : "",
    d.dropped_rows ? `${count(d.dropped_rows)} readings dropped while the database was away` : "",
    d.refused_rows ? `${count(d.refused_rows)} readings could not be stored` : "",
    d.late_rows ? `${count(d.late_rows)} readings came after another collector had taken the devices over` : "",
    d.clock_steps ? `its clock was set ${d.clock_steps} times, last by ${d.clock_step_s} s` : "",
  ];
  return [...said, ...restarts(detail)].filter(Boolean);
}

function worker({ detail }: Process, now: number): string[] {
  const d = detail as Record<string, number>;
  const last = d.ran_at ? `, the last one ${duration(now / 1000 - d.ran_at)} ago` : "";
  return [`${count(d.jobs)} jobs since its start${last}`, ...restarts(detail)];
}

function restarts(detail: Process["detail"]): string[] {
  const tasks = (detail as { restarted_tasks?: Record<string, number> }).restarted_tasks ?? {};
  return Object.entries(tasks).map(
    ([name, times]) => `“${name}” ended with an error and was started again, ${times} times`,
  );
}
