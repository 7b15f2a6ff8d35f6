import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { useSearchParams } from "react-router";
import { beginCapture, type Capture, capturesQuery, deleteCapture, stopCapture } from "../../api/trafficQueries";
import { useMay } from "../../app/session";
import { Field, Labelled } from "../../components/Field";
import { counted, moment, text, volume } from "../../components/format";
import { Problem } from "../../components/Problem";
import { captureFilter } from "./captureFilter";
import { useTrafficFilter } from "./trafficFilter";

const RUNNING = ["waiting", "running"];
const MEGABYTE = 1 << 20;

/** Packets captured at interfaces of collectors. */
export function Captures() {
  const mayCapture = useMay()("engineer", true);
  const { data, error } = useQuery({
    ...capturesQuery,
    enabled: mayCapture,
    refetchInterval: (query) => (query.state.data?.rows.some(({ state }) => RUNNING.includes(state)) ? 1500 : 30_000),
  });
  if (!mayCapture) return <p className="py-2 text-ink2">Captures hold what people send; only engineers make them.</p>;
  return (
    <>
      <Problem error={error} />
      {data && <CaptureForm places={data.places} />}
      {data?.rows.length === 0 && <p className="py-2 text-ink2">Nothing was captured within a week.</p>}
      <ul className="figures text-small">
        {data?.rows.map((row) => (
          <Row key={row.id} row={row} />
        ))}
      </ul>
    </>
  );
}

type Place = { collector: string; interfaces: string[] };

function CaptureForm({ places }: { places: Place[] }) {
  const queries = useQueryClient();
  const filter = useTrafficFilter();
  const [search] = useSearchParams();
  const [place, setPlace] = useState(`${places[0]?.collector ?? ""} ${places[0]?.interfaces[0] ?? ""}`);
  const [draft, setDraft] = useState({
    filter: captureFilter(filter),
    seconds: "30",
    longest: "256",
    megabytes: "8",
    why: search.get("why") ?? "",
  });
  const change = (changed: Partial<typeof draft>) => setDraft({ ...draft, ...changed });
  const begin = useMutation({
    mutationFn: () => {
      const [collector = "", name = ""] = place.split(" ");
      return beginCapture({
        collector,
        interface: name,
        filter: draft.filter,
        longest: Number(draft.longest),
        seconds: Number(draft.seconds),
        most_octets: Math.round(Number(draft.megabytes) * MEGABYTE),
        why: draft.why,
      });
    },
    onSuccess: () => queries.invalidateQueries({ queryKey: capturesQuery.queryKey }),
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    begin.mutate();
  };
  if (places.length === 0) return <p className="py-2 text-ink2">No collector runs that could capture.</p>;
  return (
    <form onSubmit={submit} className="my-2 grid grid-cols-4 gap-2 rounded border border-rule p-3 max-md:grid-cols-2">
      <Labelled label="Where" hint="collector and interface">
        <select className="field min-w-0" value={place} onChange={(event) => setPlace(event.target.value)}>
          {places.flatMap(({ collector, interfaces }) =>
            interfaces.map((name) => (
              <option key={`${collector} ${name}`} value={`${collector} ${name}`}>
                {collector}, {name}
              </option>
            )),
          )}
        </select>
      </Labelled>
      <Field
        label="For (s)"
        type="number"
        min={1}
        max={600}
        required
        value={draft.seconds}
        onChange={(event) => change({ seconds: event.target.value })}
      />
      <Field
        label="Octets of a packet"
        type="number"
        min={64}
        max={65535}
        required
        value={draft.longest}
        onChange={(event) => change({ longest: event.target.value })}
      />
      <Field
        label="At most (MB)"
        type="number"
        min={1}
        max={64}
        required
        value={draft.megabytes}
        onChange={(event) => change({ megabytes: event.target.value })}
      />
      <Field
        wide
        label="Filter"
        hint="BPF, as in host 10.1.2.3 and tcp port 443; empty: everything"
        maxLength={1000}
        value={draft.filter}
        onChange={(event) => change({ filter: event.target.value })}
      />
      <Field
        wide
        label="Why"
        hint="for those who read the audit trail"
        maxLength={300}
        value={draft.why}
        onChange={(event) => change({ why: event.target.value })}
      />
      <p className="col-span-full flex items-center gap-3">
        <button type="submit" className="button" disabled={begin.isPending}>
          Capture
        </button>
        <span role="alert" className="text-critical">
          {begin.error?.message}
        </span>
      </p>
    </form>
  );
}

function Row({ row }: { row: Capture }) {
  const queries = useQueryClient();
  const onSuccess = () => void queries.invalidateQueries({ queryKey: capturesQuery.queryKey });
  const stop = useMutation({ mutationFn: () => stopCapture(row.id), onSuccess });
  const remove = useMutation({ mutationFn: () => deleteCapture(row.id), onSuccess });
  const goesOn = RUNNING.includes(row.state);
  return (
    <li className="border-b border-faint py-[5px]">
      <p className="flex flex-wrap gap-x-3">
        <span>{moment(new Date(row.asked_at))}</span>
        <b className="font-medium">
          {row.collector}, {row.interface}
        </b>
        <span className="text-ink2">{row.filter || "everything"}</span>
        <span>
          {goesOn
            ? `${row.state}, ${row.seconds} s at most`
            : row.state === "failed"
              ? "failed"
              : row.packets === 0
                ? "no packets"
                : `${counted(row.packets, "packet")}, ${text(volume(row.octets))}`}
          {row.dropped > 0 && `, ${row.dropped.toLocaleString("en-GB")} more dropped`}
        </span>
        <span className="ml-auto flex gap-3">
          {goesOn && (
            <button type="button" className="underline" onClick={() => stop.mutate()}>
              stop
            </button>
          )}
          {row.state === "done" && (
            <a className="underline" href={`/api/v1/captures/${row.id}/file`}>
              pcapng
            </a>
          )}
          {!goesOn && (
            <button type="button" className="text-critical underline" onClick={() => remove.mutate()}>
              delete
            </button>
          )}
        </span>
      </p>
      <p className={row.state === "failed" ? "text-critical" : "text-ink2"}>
        {[row.words, row.why, `by ${row.by}`].filter(Boolean).join(" · ")}
      </p>
    </li>
  );
}
