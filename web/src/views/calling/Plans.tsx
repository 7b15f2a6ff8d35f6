import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { contactsQuery, plansQuery, teamsQuery } from "../../api/callingQueries";
import { counted } from "../../components/format";
import { Problem } from "../../components/Problem";
import { Ordered } from "../setup/Ordered";
import { PlanForm } from "./PlanForm";

/** Call plans: the list, or one that is written with who would be called beside it. */
export function Plans() {
  const { data, error } = useQuery(plansQuery);
  const { data: contacts, error: without } = useQuery(contactsQuery);
  const { data: teams } = useQuery(teamsQuery);
  const [open, setOpen] = useState<number | "new" | null>(null);
  if (!data || !contacts || !teams) return <Problem error={error ?? without} />;
  const stored = data.rows.find(({ id }) => id === open);
  if (open !== null)
    return (
      <PlanForm
        key={stored ? `${stored.id} ${stored.edition}` : "new"}
        {...(stored ? { stored } : {})}
        all={data}
        contacts={contacts}
        teams={teams}
        onDone={() => setOpen(null)}
      />
    );
  return (
    <div className="max-w-[980px]">
      <h1 className="text-title font-semibold tracking-tight">Call plans</h1>
      <p className="mb-2 max-w-[640px] text-ink2">
        Who is called when an alarm is raised, in which steps while nobody acknowledges, and with which words. Rules
        name a plan; one without a plan calls nobody.
      </p>
      <p className="mb-3">
        <button type="button" className="button" onClick={() => setOpen("new")}>
          New call plan
        </button>
      </p>
      <Ordered
        rows={data.rows}
        open={null}
        onOpen={setOpen}
        words={(row) => (
          <p className="text-small text-ink2">
            {counted(row.steps?.length ?? 0, "step")}
            {row.rules.length ? ` · by ${row.rules.join(", ")}` : " · no rule names it"}
            {row.on_clear === false && " · not told that it is cleared"}
          </p>
        )}
        aside={(row) => row.reaches_nobody && <span className="text-critical">reaches nobody now</span>}
      />
      {data.rows.length === 0 && (
        <p className="py-2">
          {contacts.rows.length
            ? "No call plans yet: nobody is called for any alarm."
            : "No call plans yet, and no contacts that one could name. Create a contact first."}
        </p>
      )}
    </div>
  );
}
