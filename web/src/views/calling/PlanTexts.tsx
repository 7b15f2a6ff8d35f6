import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { previewQuery } from "../../api/callingQueries";
import type { Schemas } from "../../api/client";
import { Field, Labelled } from "../../components/Field";
import { InlineChoice } from "../../components/InlineChoice";
import { useTyped } from "../../components/useTyped";
import type { PlanDraft } from "./planDraft";

const KINDS = [
  ["raise", "raised"],
  ["clear", "cleared"],
] as const;

type Props = {
  draft: PlanDraft;
  all: Schemas["PlansOut"];
  body: Schemas["PlanIn"];
  change: (changed: Partial<PlanDraft>) => void;
};

/** What the messages of a plan say, with a preview on a real alarm. */
export function PlanTexts({ draft, all, body, change }: Props) {
  const [kind, setKind] = useState<"raise" | "clear">("raise");
  const typed = useTyped(JSON.stringify({ ...body, name: "draft", steps: [] }));
  const { data, error } = useQuery(previewQuery(typed, kind === "clear"));
  const [subject, text] = [`${kind}_subject`, `${kind}_text`] as const;
  return (
    <section aria-label="Texts" className="mt-4">
      <h2 className="heading">
        Texts
        <InlineChoice
          className="ml-auto font-normal"
          label="when an alarm is"
          value={kind}
          options={KINDS}
          onChoose={(value) => setKind(value as "raise" | "clear")}
        />
      </h2>
      <div className="grid grid-cols-2 gap-x-6 gap-y-2 max-md:grid-cols-1">
        <div className="grid content-start gap-2">
          <Field
            label="Subject"
            hint="empty: the standard one"
            maxLength={300}
            placeholder={all.standard_subject}
            value={draft[subject] ?? ""}
            onChange={(event) => change({ [subject]: event.target.value })}
          />
          <Labelled label="Text">
            <textarea
              className="field min-h-[150px] font-[inherit]"
              maxLength={4000}
              spellCheck={false}
              placeholder={all.standard_text}
              value={draft[text] ?? ""}
              onChange={(event) => change({ [text]: event.target.value })}
            />
          </Labelled>
          <details>
            <summary className="min-h-6 text-ink2">Variables</summary>
            <dl className="text-small">
              {Object.entries(all.variables).map(([name, words]) => (
                <div key={name} className="flex gap-2">
                  <dt className="figures shrink-0">{`{{ ${name} }}`}</dt>
                  <dd className="text-ink2">{words}</dd>
                </div>
              ))}
            </dl>
          </details>
        </div>
        <div className="min-w-0" aria-live="polite">
          <p className="text-ink2">{data?.about ? `Preview: ${data.about}` : "Preview"}</p>
          {error ? (
            <p className="text-critical">{error.message}</p>
          ) : data?.about ? (
            <div className="mt-1 rounded border border-rule bg-sheet p-2">
              <p className="font-semibold">{data.subject}</p>
              <p className="mt-1 whitespace-pre-wrap text-small">{data.text}</p>
            </div>
          ) : (
            <p className="text-ink2">There is no such alarm yet that it could be filled with.</p>
          )}
        </div>
      </div>
    </section>
  );
}
