import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { client, got, type Schemas } from "../../api/client";
import { sweepsQuery } from "../../api/setupQueries";
import { duration, moment } from "../../components/format";
import { Problem } from "../../components/Problem";
import { Findings } from "./Findings";
import { Ordered } from "./Ordered";
import { Page } from "./Page";
import { SweepForm } from "./SweepForm";
import { everyWords } from "./words";

type Sweep = Schemas["SweepOut"];

/** Recurring looks through address ranges, and what they found. */
export function Sweeps() {
  const { data, error } = useQuery(sweepsQuery);
  const [open, setOpen] = useState<number | "new" | null>(null);
  const [isChanging, setChanging] = useState(false);
  if (!data) return <Problem error={error} />;
  const chosen = data.find((row) => row.id === open) ?? (open === null ? data[0] : undefined);
  const isForm = open === "new" || isChanging || !data.length;
  return (
    <Page
      title="Sweeps"
      words="A sweep asks every address of its ranges and finds each box once, however many addresses it has. What becomes of new ones is decided by the admission rules."
      aside={
        isForm ? (
          <SweepForm
            key={chosen && isChanging ? `${chosen.id} ${chosen.edition}` : "new"}
            {...(chosen && isChanging ? { stored: chosen } : {})}
            onDone={(made) => {
              setChanging(false);
              setOpen(made ?? null);
            }}
          />
        ) : (
          <button type="button" className="button" onClick={() => setOpen("new")}>
            New sweep
          </button>
        )
      }
    >
      <Ordered
        rows={data}
        open={chosen?.id ?? null}
        onOpen={(id) => {
          setChanging(false);
          setOpen(id);
        }}
        words={(row) => (
          <span className="figures text-ink2">
            {row.ranges.split("\n").join(", ")} · {everyWords(row.every_s)}
          </span>
        )}
        aside={(row) => <span className="text-ink2">{lastWords(row)}</span>}
      />
      {data.length === 0 && <p className="py-2">None yet. Create the first one on the right.</p>}
      {chosen && <Running sweep={chosen} onChange={() => setChanging(!isChanging)} />}
      {chosen && <Findings sweep={chosen.id} key={chosen.id} />}
    </Page>
  );
}

function lastWords({ run, next_at }: Sweep): string {
  const next = next_at ? `, next ${moment(new Date(next_at))}` : "";
  if (!run) return `never run${next}`;
  if (!run.ended_at) return run.state === "waiting" ? "begins" : "runs now";
  return `${run.state} ${moment(new Date(run.ended_at))}${next}`;
}

/** How far a run is, or how the last one ended, and what can be done. */
function Running({ sweep, onChange }: { sweep: Sweep; onChange: () => void }) {
  const queries = useQueryClient();
  const { run } = sweep;
  const isOpen = run !== null && !run.ended_at;
  const act = useMutation({
    mutationFn: async () => {
      const params = { params: { path: { sweep: sweep.id } } };
      if (isOpen) await got(client.POST("/api/v1/sweeps/{sweep}/stop", params));
      else await got(client.POST("/api/v1/sweeps/{sweep}/runs", params));
    },
    onSuccess: () => queries.invalidateQueries({ queryKey: sweepsQuery.queryKey }),
  });
  return (
    <section aria-label={`Runs of ${sweep.name}`} className="mt-4">
      <h2 className="heading flex items-baseline gap-3">
        {sweep.name}
        <button
          type="button"
          className="min-h-6 font-normal underline"
          disabled={act.isPending}
          onClick={() => act.mutate()}
        >
          {isOpen ? "Stop" : "Run now"}
        </button>
        <button type="button" className="min-h-6 font-normal underline" onClick={onChange}>
          Change
        </button>
      </h2>
      <p role="alert" className="text-critical">
        {act.error?.message}
      </p>
      {run && (
        <div aria-live="polite" className="figures">
          {isOpen && (
            <progress
              className="h-1.5 w-full appearance-none [&::-webkit-progress-bar]:bg-rule [&::-webkit-progress-value]:bg-ink"
              max={run.total || 1}
              value={run.done}
              aria-label="addresses asked"
            />
          )}
          <p>{isOpen ? progressWords(run) : endWords(run)}</p>
        </div>
      )}
    </section>
  );
}

type Run = Schemas["RunOut"];

export function progressWords(run: Run): string {
  if (run.state === "waiting") return "It starts as soon as the worker is free.";
  const left = run.left_s === null ? "" : `, about ${duration(Math.ceil(run.left_s))} left`;
  return `${run.done.toLocaleString("en")} of ${run.total.toLocaleString("en")} addresses asked, ${run.answered} answered${left}`;
}

export function endWords(run: Run): string {
  const seconds = run.began_at && run.ended_at ? (Date.parse(run.ended_at) - Date.parse(run.began_at)) / 1000 : 0;
  const words = Object.entries(COUNTED)
    .filter(([name]) => (run.counts[name] ?? 0) > 0)
    .map(([name, word]) => `${run.counts[name]} ${word}`);
  const summary = `${run.done.toLocaleString("en")} ${run.done === 1 ? "address" : "addresses"} in ${duration(Math.round(seconds))}`;
  return [run.words, summary, words.join(", ")].filter(Boolean).join(": ");
}

const COUNTED: Record<string, string> = {
  new: "new",
  known: "known",
  changed: "changed",
  lost: "lost",
  add: "added",
  hold: "awaiting review",
  ignore: "ignored",
  retired: "retired",
};
