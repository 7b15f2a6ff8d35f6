import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { destinationsQuery } from "../../api/callingQueries";
import { client, got, type Schemas } from "../../api/client";
import { useMay } from "../../app/session";
import { Field, Labelled } from "../../components/Field";
import { FormFoot } from "../../components/FormFoot";
import { Problem } from "../../components/Problem";
import { useKeeping } from "../setup/useKeeping";

/** Where messages other than mail may go. */
export function Destinations() {
  const { data, error } = useQuery(destinationsQuery);
  if (!data) return <Problem error={error} />;
  return <Form key={data.changed_at} stored={data} />;
}

function Form({ stored }: { stored: Schemas["DestinationsOut"] }) {
  const isAdministrator = useMay()("administrator", true);
  const [allowed, setAllowed] = useState({ ranges: stored.ranges, hosts: stored.hosts ?? "" });
  const [isSaved, setSaved] = useState(false);
  const { submit, foot } = useKeeping({
    listed: destinationsQuery.queryKey,
    save: () => got(client.PUT("/api/v1/destinations", { body: allowed })),
    onDone: () => setSaved(true),
  });
  return (
    <form onSubmit={submit} className="max-w-[640px]">
      <h1 className="text-title font-semibold tracking-tight">Destinations</h1>
      <p className="mb-3 text-ink2">
        Where messages other than mail may be sent: web hooks, chats, syslog, SNMP notifications. An address elsewhere
        is refused when it is entered and again before each message. Mail goes to the mail server of this installation
        alone.
      </p>
      <fieldset disabled={!isAdministrator} className="grid grid-cols-2 gap-x-3 gap-y-3">
        <Labelled wide label="Ranges of addresses" hint="separated by commas">
          <textarea
            className="field figures min-h-[80px]"
            spellCheck={false}
            value={allowed.ranges}
            onChange={(event) => setAllowed({ ...allowed, ranges: event.target.value })}
          />
        </Labelled>
        <Field
          wide
          label="Names"
          hint="beside the ranges; *.example.net is every name beneath one"
          placeholder="hooks.example.net"
          spellCheck={false}
          value={allowed.hosts}
          onChange={(event) => setAllowed({ ...allowed, hosts: event.target.value })}
        />
        {isAdministrator ? (
          <FormFoot problem={foot.problem} isBusy={foot.isBusy} />
        ) : (
          <p className="col-span-2 text-ink2">Only administrators change this.</p>
        )}
        {isSaved && (
          <p role="status" className="col-span-2 text-ink2">
            Saved.
          </p>
        )}
      </fieldset>
    </form>
  );
}
