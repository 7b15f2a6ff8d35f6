import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import { client, got } from "../../api/client";
import { rulesQuery, vocabularyQuery } from "../../api/queries";
import { useTimeSearch } from "../../app/screenTime";
import { useMay } from "../../app/session";
import { Field, Labelled } from "../../components/Field";
import { FormFoot } from "../../components/FormFoot";
import { Problem } from "../../components/Problem";
import { ownZone } from "../calling/ContactForm";
import { useKeeping } from "../setup/useKeeping";
import { CallPlanChoice } from "./CallPlanChoice";
import { ProposeLimits } from "./ProposeLimits";
import { Rehearsal } from "./Rehearsal";
import { RuleExceptions } from "./RuleExceptions";
import { RuleLevels } from "./RuleLevels";
import { RuleReport } from "./RuleReport";
import { RuleSentence } from "./RuleSentence";
import {
  BLANK,
  bodyOf,
  type Draft,
  draftOf,
  firstLevels,
  type RuleOut,
  subjectOf,
  unitOf,
  type Vocabulary,
} from "./ruleDraft";
import { ScopeMatch } from "./ScopeMatch";

/** A rule to write or to change, and beside it what it would have done. */
export function RulePage() {
  const { rule: number } = useParams();
  const [search] = useSearchParams();
  const { data: rules, error } = useQuery(rulesQuery);
  const { data: words, error: without } = useQuery(vocabularyQuery);
  if (!rules || !words) return <Problem error={error ?? without} />;
  const stored = rules.find(({ id }) => String(id) === number);
  if (number !== "new" && !stored) return <p className="p-4">There is no such rule; it may have been deleted.</p>;
  const name = search.get("ready");
  const measure = search.get("measure") ?? "";
  const unit = words.measures.find((each) => each.name === measure)?.unit;
  const about =
    unit === undefined ? undefined : { measure, scope: search.get("scope") ?? "", levels: firstLevels(unit) };
  return <Form key={`${number} ${name} ${measure}`} stored={stored} words={words} ready={name} about={about} />;
}

/** Raises and clears a test alarm for those whom the rule calls as it is stored. */
function SendTest({ rule }: { rule: RuleOut }) {
  const test = useMutation({
    mutationFn: () => got(client.POST("/api/v1/rules/{rule}/test", { params: { path: { rule: rule.id } } })),
  });
  return (
    <p className="col-span-2 flex flex-wrap items-center gap-2">
      <button type="button" className="button" disabled={test.isPending} onClick={() => test.mutate()}>
        Send a test
      </button>
      <span role="status" className={test.error ? "text-critical" : "text-ink2"}>
        {test.error?.message ??
          (test.data
            ? `On its way to ${`${test.data.addresses} ${test.data.addresses === 1 ? "address" : "addresses"}`}; Setup, Messages says what became of it.`
            : "raises and clears a test alarm for whoever is called first")}
      </span>
    </p>
  );
}

/** What alarms of a rule say instead of the standard sentence. */
function OwnTexts({
  draft,
  words,
  change,
}: {
  draft: Draft;
  words: Vocabulary;
  change: (changed: Partial<Draft>) => void;
}) {
  return (
    <details className="col-span-2" open={Boolean(draft.raiseText || draft.clearText)}>
      <summary className="min-h-6 text-ink2">Own words for its alarms</summary>
      <div className="grid grid-cols-2 gap-2">
        <Field
          wide
          label="When raised"
          hint="empty: the standard sentence"
          maxLength={400}
          placeholder="{{ measure }} {{ value }}, more than {{ limit }}"
          value={draft.raiseText}
          onChange={(event) => change({ raiseText: event.target.value })}
        />
        <Field
          wide
          label="When cleared"
          maxLength={400}
          value={draft.clearText}
          onChange={(event) => change({ clearText: event.target.value })}
        />
        <p className="col-span-2 text-small text-ink2">
          Variables:{" "}
          {Object.entries(words.text_variables)
            .filter(([, example]) => example)
            .map(([name, example]) => `{{ ${name} }} (${example})`)
            .join(", ")}
        </p>
      </div>
    </details>
  );
}

type FormProps = {
  stored: RuleOut | undefined;
  words: Vocabulary;
  ready: string | null;
  /** What a new rule is about, if whoever leads here knows it. */
  about?: Pick<typeof BLANK, "measure" | "scope" | "levels"> | undefined;
};

function Form({ stored, words, ready, about }: FormProps) {
  const navigate = useNavigate();
  const keep = useTimeSearch();
  const isEngineer = useMay()("engineer", true);
  const template = words.ready.find(({ name }) => name === ready);
  const given = { ...BLANK, ...template, ...about };
  const [draft, setDraft] = useState(() => draftOf(words, stored ?? { ...given, zone: ownZone() }));
  const change = (changed: Partial<typeof draft>) => setDraft({ ...draft, ...changed });
  const ofLumtar = stored?.measure === "lumtar";
  const kind = subjectOf(words, draft.measure);
  const path = { rule: stored?.id ?? 0 };
  const { submit, foot } = useKeeping({
    save: () => {
      if (!stored) return got(client.POST("/api/v1/rules", { body: bodyOf(words, draft) }));
      const { enabled, plan_id, instructions, ...rest } = bodyOf(words, draft);
      const body = ofLumtar ? { enabled, plan_id, instructions } : { enabled, plan_id, instructions, ...rest };
      return got(client.PATCH("/api/v1/rules/{rule}", { params: { path }, body }));
    },
    remove: stored && !ofLumtar ? () => got(client.DELETE("/api/v1/rules/{rule}", { params: { path } })) : undefined,
    onDone: () => navigate(`/alarms${keep()}`),
  });
  return (
    <div className="grid h-full grid-cols-[430px_minmax(0,1fr)] max-lg:h-auto max-lg:grid-cols-1">
      <form onSubmit={submit} className="min-h-0 overflow-auto border-r border-rule px-4 pt-3 pb-4 max-lg:border-r-0">
        <p className="text-small text-ink2">
          <Link to={`/alarms${keep()}`} className="underline">
            Alarms and rules
          </Link>
        </p>
        <h1 className="text-title font-semibold tracking-tight">
          {stored ? stored.name : "A new rule"}{" "}
          {stored && <span className="text-body font-normal text-ink2">revision {stored.revision}</span>}
        </h1>
        {template && <p className="py-1 text-ink2">{template.why}</p>}
        <fieldset disabled={!isEngineer} className="min-w-0">
          {!ofLumtar && (
            <>
              <RuleSentence draft={draft} words={words} change={change} />
              <ScopeMatch kind={kind} scope={draft.scope} fields={words.fields[kind] ?? []} />
              <RuleLevels draft={draft} unit={unitOf(words, draft)} change={change}>
                {draft.reference && isEngineer && <ProposeLimits draft={draft} words={words} change={change} />}
              </RuleLevels>
              {draft.reference && (
                <p className="pt-1 text-small text-ink2">
                  {draft.reference === "learned"
                    ? "Learned each night from up to eight weeks, for each hour of the week; growth is corrected for. While less than two weeks are known nothing is raised."
                    : "Compared with the same hour then; where nothing was measured then nothing is raised."}
                </p>
              )}
              {draft.reference && (
                <div className="mt-1 grid grid-cols-2">
                  <Field
                    wide
                    label="Exceptional days"
                    hint="nothing is learned from them; like 2026-12-24, 2026-12-25"
                    value={draft.without}
                    onChange={(event) => change({ without: event.target.value })}
                  />
                </div>
              )}
              {stored && <RuleExceptions rule={stored} />}
            </>
          )}
          <h2 className="heading mt-3">Who is called</h2>
          <div className="grid grid-cols-2 gap-x-3 gap-y-2">
            <CallPlanChoice planId={draft.planId} choose={(planId) => change({ planId })} />
            <Labelled
              wide
              label="Instructions"
              hint="for whoever is called; they stand at the alarm and in the messages"
            >
              <textarea
                className="field min-h-[60px]"
                maxLength={2000}
                value={draft.instructions}
                onChange={(event) => change({ instructions: event.target.value })}
              />
            </Labelled>
            {!ofLumtar && (
              <Field
                wide
                label="Name"
                required
                maxLength={120}
                value={draft.name}
                onChange={(event) => change({ name: event.target.value })}
              />
            )}
            {!ofLumtar && <OwnTexts draft={draft} words={words} change={change} />}
            <label className="col-span-2 flex gap-2">
              <input
                type="checkbox"
                checked={draft.enabled}
                onChange={(event) => change({ enabled: event.target.checked })}
              />{" "}
              Enabled <span className="text-ink2">switched off, its alarms are cleared</span>
            </label>
            {isEngineer && stored && stored.plan_id !== null && <SendTest rule={stored} />}
            {isEngineer && <FormFoot {...foot} save={stored ? "Save" : "Create rule"} />}
          </div>
        </fieldset>
      </form>
      <section className="min-h-0 min-w-0 overflow-auto px-4 pt-3 pb-4" aria-label="Rehearsal">
        {ofLumtar ? (
          <p className="text-ink2">
            Lumtar's own services, stored readings, sums, jobs, disk and clock are looked at as they are now; there is
            no history of them to go through.
          </p>
        ) : (
          <Rehearsal draft={draft} stored={stored} words={words} />
        )}
        {stored && <RuleReport rule={stored.id} />}
      </section>
    </div>
  );
}
