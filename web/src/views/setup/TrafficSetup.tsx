import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type ChangeEvent, useState } from "react";
import { Link } from "react-router";
import {
  applicationsQuery,
  deletePrefixTable,
  loadPrefixTable,
  type OwnApplication,
  type PrefixKind,
  prefixTablesQuery,
} from "../../api/trafficQueries";
import { moment } from "../../components/format";
import { Problem } from "../../components/Problem";
import { ApplicationForm } from "./ApplicationForm";
import { DeclaredFields } from "./DeclaredFields";

/** What traffic is called: applications of one's own, autonomous systems and places. */
export function TrafficSetup() {
  const { data, error } = useQuery(applicationsQuery);
  const [open, setOpen] = useState<number | "new" | null>(null);
  return (
    <div className="max-w-[880px]">
      <h1 className="text-title font-semibold tracking-tight">Traffic</h1>
      <p className="mb-2 max-w-[640px] text-ink2">
        What flows are called. Definitions of your own go before those that are built in, and hold for flows from now
        on. What nobody defined yet is ranked under{" "}
        <Link className="underline" to="/traffic?application=0&by=port">
          unknown traffic by port
        </Link>
        .
      </p>
      <Problem error={error} />
      <h2 className="heading">Applications</h2>
      {data?.own.length === 0 && <p className="py-1 text-ink2">None of your own yet.</p>}
      {data?.own.map((each) => (
        <div key={each.id} className="border-b border-faint py-1">
          <p className="flex flex-wrap gap-x-3">
            <b className="font-medium">{each.name}</b>
            <span className="text-ink2">{knownBy(each)}</span>
            <button
              type="button"
              className="ml-auto underline"
              onClick={() => setOpen(open === each.id ? null : each.id)}
            >
              {open === each.id ? "close" : "change"}
            </button>
          </p>
          {open === each.id && <ApplicationForm application={each} onDone={() => setOpen(null)} />}
        </div>
      ))}
      {open === "new" ? (
        <ApplicationForm application={null} onDone={() => setOpen(null)} />
      ) : (
        <button type="button" className="button mt-2" onClick={() => setOpen("new")}>
          New application
        </button>
      )}
      {data && (
        <p className="py-2 text-small text-ink2">Built in: {data.built_in.map(({ name }) => name).join(", ")}.</p>
      )}
      <DeclaredFields />
      <Table
        kind="systems"
        title="Autonomous systems"
        hint="prefix,number,name: Traffic can then be put together by AS"
      />
      <Table
        kind="places"
        title="Places"
        hint="prefix,place,country,latitude,longitude: by country and place, and as a picture"
      />
    </div>
  );
}

/** By what an application is known. */
function knownBy({ protocols, ports, addresses, told, server_names }: OwnApplication): string {
  const parts = [
    protocols?.length && `protocol ${protocols.join(", ")}`,
    ports && `port ${ports}`,
    addresses && `with ${addresses.trim().split("\n").length} of addresses`,
    told?.length && `told as ${told.join(", ")}`,
    server_names && `asks for ${server_names}`,
  ];
  return parts.filter(Boolean).join(", ");
}

/** A table by prefix: what is loaded, and loading another one. */
function Table({ kind, title, hint }: { kind: PrefixKind; title: string; hint: string }) {
  const queries = useQueryClient();
  const { data } = useQuery(prefixTablesQuery);
  const loaded = data?.find((each) => each.kind === kind);
  const onSuccess = () => void queries.invalidateQueries({ queryKey: prefixTablesQuery.queryKey });
  const load = useMutation({
    mutationFn: (file: File) => loadPrefixTable(kind, file),
    onSuccess,
  });
  const remove = useMutation({ mutationFn: () => deletePrefixTable(kind), onSuccess });
  const choose = (event: ChangeEvent<HTMLInputElement>) => {
    const file = event.target.files?.[0];
    if (file) load.mutate(file);
    event.target.value = "";
  };
  return (
    <section aria-label={title} className="mt-4">
      <h2 className="heading">{title}</h2>
      <p className="text-small text-ink2">
        A CSV file with a first line of names, {hint}; or an MMDB file. At most 64 MB.
      </p>
      <Problem error={load.error ?? remove.error} />
      <p className="flex flex-wrap items-center gap-3 py-1">
        {loaded ? (
          <>
            <span>
              {loaded.rows.toLocaleString("en-GB")} prefixes, loaded {moment(new Date(loaded.loaded_at))} by {loaded.by}
            </span>
            <button type="button" className="text-critical underline" onClick={() => remove.mutate()}>
              Delete
            </button>
          </>
        ) : (
          <span className="text-ink2">None is loaded.</span>
        )}
        <label className="flex items-center gap-2">
          {load.isPending ? "Loading…" : loaded ? "Load another" : "Load"}
          <input type="file" accept=".csv,.mmdb,text/csv" className="text-small" onChange={choose} />
        </label>
      </p>
    </section>
  );
}
