import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { client, got, type Schemas } from "../../api/client";
import { sitesQuery } from "../../api/queries";
import { credentialsQuery, sweepsQuery } from "../../api/setupQueries";
import { Field, Labelled } from "../../components/Field";
import { FormFoot } from "../../components/FormFoot";
import { duration } from "../../components/format";
import { useTyped } from "../../components/useTyped";
import { EVERY, everyWords } from "./words";

type Props = { stored?: Schemas["SweepOut"]; onDone: (made?: number) => void };

/** Making a sweep, or changing one; what a run would be is said while it is written. */
export function SweepForm({ stored, onDone }: Props) {
  const queries = useQueryClient();
  const { data: credentials } = useQuery(credentialsQuery);
  const { data: sites } = useQuery(sitesQuery);
  const [sweep, setSweep] = useState({
    name: stored?.name ?? "",
    ranges: stored?.ranges ?? "",
    without: stored?.without ?? "",
    site: stored?.site ?? "",
    icmp: stored?.icmp ?? true,
    snmp: stored?.snmp ?? true,
    tcp: stored?.tcp_ports.join(", ") ?? "",
    port: stored?.port ?? 161,
    credentials: stored?.credentials ?? [],
    every_s: stored?.every_s ?? 86_400,
    per_second: stored?.per_second ?? 200,
    timeout_s: stored?.timeout_s ?? 1,
    tries: stored?.tries ?? 2,
    retire: stored?.retire_after_days ? String(stored.retire_after_days) : "",
  });
  const { tcp, retire, ...rest } = sweep;
  const draft = {
    ...rest,
    tcp_ports: tcp
      .split(/[,;\s]+/)
      .filter(Boolean)
      .map(Number)
      .filter(Number.isInteger),
    retire_after_days: retire ? Number(retire) : null,
  };
  const tried = useTyped(JSON.stringify({ ...draft, name: draft.name || "new", id: stored?.id ?? null }));
  const { data: estimate, error: wrong } = useQuery({
    queryKey: ["sweeps", "estimate", tried],
    queryFn: () => got(client.POST("/api/v1/sweeps/estimate", { body: JSON.parse(tried) })),
    enabled: sweep.ranges.trim() !== "",
    retry: false,
    gcTime: 0,
  });
  const renew = () => queries.invalidateQueries({ queryKey: sweepsQuery.queryKey });
  const save = useMutation({
    mutationFn: () => {
      if (!stored) return got(client.POST("/api/v1/sweeps", { body: draft }));
      return got(
        client.PUT("/api/v1/sweeps/{sweep}", {
          params: { path: { sweep: stored.id } },
          body: { ...draft, edition: stored.edition },
        }),
      );
    },
    onSuccess: async (made) => {
      await renew();
      onDone(made.id);
    },
  });
  const remove = useMutation({
    mutationFn: (sweep: number) => got(client.DELETE("/api/v1/sweeps/{sweep}", { params: { path: { sweep } } })),
    onSuccess: async () => {
      await renew();
      onDone();
    },
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    save.mutate();
  };
  const set = (name: keyof typeof sweep) => (event: { target: { value: string } }) =>
    setSweep({ ...sweep, [name]: event.target.value });
  const number = (name: keyof typeof sweep) => (event: { target: { value: string } }) =>
    setSweep({ ...sweep, [name]: Number(event.target.value) });
  const objection = sweep.ranges.trim() ? (wrong?.message ?? estimate?.objection) : "";
  return (
    <form onSubmit={submit} className="grid grid-cols-2 gap-x-3 gap-y-2">
      <h2 className="heading col-span-2">{stored ? `Change ${stored.name}` : "A new sweep"}</h2>
      <Field label="Name" required maxLength={80} value={sweep.name} onChange={set("name")} />
      <Field label="Site" hint="of what is found" list="sweep-sites" value={sweep.site} onChange={set("site")} />
      <datalist id="sweep-sites">
        {sites?.map((site) => site.name && <option key={site.name} value={site.name} />)}
      </datalist>
      {(["ranges", "without"] as const).map((name) => (
        <Labelled
          key={name}
          label={name === "ranges" ? "Addresses" : "Except"}
          hint={name === "ranges" ? "10.20.0.0/22, 10.20.4.10-99, 2001:db8::/120" : "in the same form"}
          wide
        >
          <textarea
            className="field figures"
            rows={name === "ranges" ? 2 : 1}
            required={name === "ranges"}
            spellCheck={false}
            value={sweep[name]}
            onChange={set(name)}
          />
        </Labelled>
      ))}
      <fieldset className="col-span-2 flex flex-wrap items-center gap-x-4">
        <legend>Probe with</legend>
        {(["icmp", "snmp"] as const).map((name) => (
          <label key={name} className="flex min-h-6 items-center gap-1.5">
            <input
              type="checkbox"
              checked={sweep[name]}
              onChange={(event) => setSweep({ ...sweep, [name]: event.target.checked })}
            />
            {name === "icmp" ? "ICMP echo" : "SNMP"}
          </label>
        ))}
        <label className="flex items-center gap-1.5">
          TCP ports
          <input className="field w-24" placeholder="none" value={sweep.tcp} onChange={set("tcp")} />
        </label>
      </fieldset>
      {sweep.snmp && (
        <>
          <Labelled label="Credentials" hint="none: the site’s credentials">
            <select
              multiple
              size={3}
              className="field"
              value={sweep.credentials.map(String)}
              onChange={(event) =>
                setSweep({ ...sweep, credentials: [...event.target.selectedOptions].map(({ value }) => Number(value)) })
              }
            >
              {credentials?.rows.map((each) => (
                <option key={each.id} value={each.id}>
                  {each.name}
                </option>
              ))}
            </select>
          </Labelled>
          <Field label="UDP port" type="number" min={1} max={65535} value={sweep.port} onChange={number("port")} />
        </>
      )}
      <Labelled label="Schedule">
        <select className="field" value={sweep.every_s} onChange={number("every_s")}>
          {[
            ...EVERY,
            ...(EVERY.some(([, value]) => value === sweep.every_s)
              ? []
              : [[everyWords(sweep.every_s), sweep.every_s] as const]),
          ].map(([words, value]) => (
            <option key={value} value={value}>
              {words}
            </option>
          ))}
        </select>
      </Labelled>
      <Field
        label="Packets a second"
        type="number"
        min={1}
        max={5000}
        value={sweep.per_second}
        onChange={number("per_second")}
      />
      <Field
        label="Timeout (s)"
        type="number"
        step="any"
        min={0.1}
        max={10}
        value={sweep.timeout_s}
        onChange={number("timeout_s")}
      />
      <Field label="Tries" type="number" min={1} max={5} value={sweep.tries} onChange={number("tries")} />
      <Field
        label="Retire if missing for"
        hint="days; empty: never. The history is kept."
        wide
        type="number"
        min={1}
        max={3650}
        value={sweep.retire}
        onChange={set("retire")}
      />
      <div className="col-span-2" aria-live="polite">
        {objection && <p className="text-critical">{objection}</p>}
        {estimate && !wrong && (
          <p>
            <b className="font-semibold">{estimate.addresses.toLocaleString("en")}</b>{" "}
            {estimate.addresses === 1 ? "address" : "addresses"}, at most{" "}
            <b className="font-semibold">{duration(Math.ceil(estimate.longest_s))}</b> a run{" "}
            <span className="text-ink2">({estimate.packets} packets to an unresponsive address)</span>
          </p>
        )}
        {!wrong &&
          estimate?.remarks.map((remark) => (
            <p key={remark} className="text-ink2">
              {remark}
            </p>
          ))}
      </div>
      <FormFoot
        problem={save.error?.message ?? remove.error?.message}
        isBusy={save.isPending || Boolean(objection)}
        onLeave={() => onDone(stored?.id)}
        onDelete={stored && (() => remove.mutate(stored.id))}
      />
    </form>
  );
}
