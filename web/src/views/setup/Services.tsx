import { useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";
import type { Schemas } from "../../api/client";
import { healthQuery } from "../../api/queries";
import { servicesQuery } from "../../api/setupQueries";
import { duration, moment } from "../../components/format";
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
  const said = process.kind === "collector" ? collector(process, held / data.shares) : worker(process, now);
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
    </Line>
  );
}

const count = (value: unknown) => Number(value ?? 0).toLocaleString("en-GB");

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
