import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { wouldCallQuery } from "../../api/callingQueries";
import type { Schemas } from "../../api/client";
import { duration } from "../../components/format";
import { InlineChoice } from "../../components/InlineChoice";
import { SEVERITIES } from "../../components/severities";
import { useTyped } from "../../components/useTyped";

const CHOICES = SEVERITIES.slice(1).map(({ word }, place) => [String(place + 1), word] as const);

/** Who would be called by a plan for an alarm that is raised now, in the order of time. */
export function WhoIsCalled({ body }: { body: Schemas["PlanIn"] }) {
  const [severity, setSeverity] = useState("5");
  // What the texts say is looked at elsewhere.
  const { name, on_worse, on_clear, steps } = body;
  const typed = useTyped(JSON.stringify({ name: name || "draft", on_worse, on_clear, steps }));
  const { data, error } = useQuery(wouldCallQuery(typed, Number(severity)));
  const isNobody = data?.calls.every(({ addresses }) => addresses.length === 0);
  return (
    <section aria-label="Who would be called now">
      <h2 className="heading">
        Who would be called now
        <InlineChoice
          className="ml-auto font-normal"
          label="for an alarm that is"
          value={severity}
          options={CHOICES}
          onChoose={setSeverity}
        />
      </h2>
      {error && (
        <p role="status" className="py-1 text-critical">
          {error.message}
        </p>
      )}
      {data && !error && isNobody && (
        <p className="py-1 font-semibold text-critical">
          Nobody: no step reaches anybody who is on duty now and has an address.
        </p>
      )}
      <ol className={error ? "opacity-60" : ""}>
        {data?.calls.map((call) => (
          <li
            key={`${call.step} ${call.round}`}
            className="grid grid-cols-[74px_minmax(0,1fr)] gap-2 border-b border-dotted border-rule py-1"
          >
            <span className="figures text-ink2">{call.after_s ? `+ ${duration(call.after_s)}` : "at once"}</span>
            <span>
              {call.addresses.length ? (
                call.addresses.map((address) => (
                  <span key={address} className="block truncate">
                    {address}
                  </span>
                ))
              ) : (
                <span className="text-ink2">
                  {call.contacts.length
                    ? `${call.contacts.join(", ")} has no such address`
                    : "nobody: not for this severity, or nobody is on duty"}
                </span>
              )}
            </span>
          </li>
        ))}
      </ol>
      <p className="mt-1 text-small text-ink2">
        Acknowledging or shelving ends it. A step that reaches nobody gives way to the next one at once. What comes
        within a minute goes to an address as one message.
      </p>
    </section>
  );
}
