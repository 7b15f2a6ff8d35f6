import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import {
  type ApplicationBody,
  applicationsQuery,
  deleteApplication,
  keepApplication,
  type OwnApplication,
  tryApplication,
} from "../../api/trafficQueries";
import { Field, Labelled } from "../../components/Field";
import { FormFoot } from "../../components/FormFoot";
import { counted, percent, text, volume } from "../../components/format";
import { useKeeping } from "./useKeeping";

const numbers = (typed: string) =>
  typed
    .split(/[\s,]+/)
    .filter(Boolean)
    .map(Number);

/** An application of one's own, and what it would have been in the last hour. */
export function ApplicationForm({ application, onDone }: { application: OwnApplication | null; onDone: () => void }) {
  const [draft, setDraft] = useState({
    name: application?.name ?? "",
    ports: application?.ports ?? "",
    addresses: application?.addresses ?? "",
    protocols: (application?.protocols ?? []).join(", "),
    server_names: application?.server_names ?? "",
    told: (application?.told ?? []).join(", "),
  });
  const change = (changed: Partial<typeof draft>) => setDraft({ ...draft, ...changed });
  const body = (): ApplicationBody => ({
    name: draft.name,
    ports: draft.ports,
    addresses: draft.addresses,
    server_names: draft.server_names,
    protocols: numbers(draft.protocols),
    told: numbers(draft.told),
  });
  const tried = useMutation({ mutationFn: () => tryApplication(body()) });
  const { submit, foot } = useKeeping({
    listed: applicationsQuery.queryKey,
    save: () => keepApplication(application?.id ?? null, body()),
    remove: application ? () => deleteApplication(application.id) : undefined,
    onDone,
  });
  return (
    <form onSubmit={submit} className="mt-1 grid grid-cols-2 gap-2 rounded border border-rule p-3 max-md:grid-cols-1">
      <Field
        label="Name"
        required
        maxLength={80}
        placeholder="library catalogue"
        value={draft.name}
        onChange={(event) => change({ name: event.target.value })}
      />
      <Field
        label="Ports"
        hint="of the service, TCP and UDP"
        placeholder="8080, 9000-9010"
        value={draft.ports}
        onChange={(event) => change({ ports: event.target.value })}
      />
      <Labelled label="Addresses" hint="one end is among them; empty: anybody">
        <textarea
          className="field h-20"
          placeholder="10.0.10.200  # catalogue server"
          value={draft.addresses}
          onChange={(event) => change({ addresses: event.target.value })}
        />
      </Labelled>
      <div className="grid content-start gap-2">
        <Field
          label="IP protocols"
          hint="numbers; empty: TCP and UDP"
          placeholder="6"
          value={draft.protocols}
          onChange={(event) => change({ protocols: event.target.value })}
        />
        <Field
          label="Exporters call it"
          hint="applicationId as a number (RFC 6759); empty: anything"
          value={draft.told}
          onChange={(event) => change({ told: event.target.value })}
        />
        <Field
          label="Names of servers"
          hint="asked for in TLS or HTTP, if exporters tell; with all beneath"
          placeholder="films.example"
          value={draft.server_names}
          onChange={(event) => change({ server_names: event.target.value })}
        />
      </div>
      <p className="col-span-full flex flex-wrap items-center gap-3">
        <button type="button" className="button" disabled={tried.isPending} onClick={() => tried.mutate()}>
          Try it on the last hour
        </button>
        <span role="status" className={tried.error ? "text-critical" : "text-ink2"}>
          {tried.error?.message}
          {tried.data && told(tried.data)}
        </span>
      </p>
      <FormFoot {...foot} />
    </form>
  );
}

/** What a definition would have been. */
function told({
  octets,
  conversations,
  of_octets,
  now,
}: NonNullable<Awaited<ReturnType<typeof tryApplication>>>): string {
  if (conversations === 0) return "No conversation of the last hour.";
  const share = of_octets ? ` (${percent((100 * octets) / of_octets)} %)` : "";
  const called = now.map((each) => `${each.name} ${text(volume(each.octets))}`).join(", ");
  return `${counted(conversations, "conversation")} with ${text(volume(octets))}${share}; called until now: ${called}.`;
}
