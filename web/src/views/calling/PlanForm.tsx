import { useState } from "react";
import { client, got, type Schemas } from "../../api/client";
import { Field } from "../../components/Field";
import { FormFoot } from "../../components/FormFoot";
import { useKeeping } from "../setup/useKeeping";
import { PlanSteps } from "./PlanSteps";
import { PlanTexts } from "./PlanTexts";
import { bodyOf, draftOf, furtherStep, type Plan } from "./planDraft";
import { WhoIsCalled } from "./WhoIsCalled";

type Props = {
  stored?: Plan;
  all: Schemas["PlansOut"];
  contacts: Schemas["ContactsOut"];
  teams: Schemas["TeamOut"][];
  onDone: () => void;
};

/** A call plan to write or to change; beside it who would be called now, and what the messages say. */
export function PlanForm({ stored, all, contacts, teams, onDone }: Props) {
  const [draft, setDraft] = useState(() => draftOf(stored));
  const change = (changed: Partial<typeof draft>) => setDraft({ ...draft, ...changed });
  const body = bodyOf(draft);
  const { submit, foot } = useKeeping({
    save: () => {
      if (!stored) return got(client.POST("/api/v1/plans", { body }));
      return got(
        client.PUT("/api/v1/plans/{plan}", {
          params: { path: { plan: stored.id } },
          body: { ...body, edition: stored.edition },
        }),
      );
    },
    remove: stored && (() => got(client.DELETE("/api/v1/plans/{plan}", { params: { path: { plan: stored.id } } }))),
    onDone,
  });
  const flag = (name: "on_worse" | "on_clear", words: string) => (
    <label className="flex gap-2">
      <input type="checkbox" checked={draft[name]} onChange={(event) => change({ [name]: event.target.checked })} />
      {words}
    </label>
  );
  return (
    <div className="grid grid-cols-[minmax(0,430px)_minmax(0,1fr)] gap-8 max-lg:grid-cols-1">
      <form onSubmit={submit} className="min-w-0">
        <h1 className="text-title font-semibold tracking-tight">{stored?.name ?? "A new call plan"}</h1>
        <div className="mt-2 grid grid-cols-2 gap-x-3 gap-y-2">
          <Field
            label="Name"
            required
            wide
            maxLength={80}
            value={draft.name}
            onChange={(event) => change({ name: event.target.value })}
          />
        </div>
        <h2 className="heading mt-3">
          Steps <span className="font-normal text-ink2">until somebody acknowledges</span>
        </h2>
        <PlanSteps
          steps={draft.steps}
          channels={contacts.channels}
          contacts={contacts.rows}
          teams={teams}
          change={(steps) => change({ steps })}
        />
        <button
          type="button"
          className="min-h-6 underline"
          onClick={() => change({ steps: [...draft.steps, furtherStep(draft.steps)] })}
        >
          Add a step
        </button>
        <div className="mt-2 grid gap-1">
          {flag("on_worse", "Call anew when the alarm gets worse")}
          {flag("on_clear", "Tell everybody who was called that it is cleared")}
        </div>
        <div className="mt-3 grid grid-cols-2 gap-x-3 gap-y-2">
          <FormFoot {...foot} save={stored ? "Save" : "Create call plan"} />
        </div>
      </form>
      <div className="min-w-0">
        <WhoIsCalled body={body} />
        <PlanTexts draft={draft} all={all} body={body} change={change} />
      </div>
    </div>
  );
}
