import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import type { Schemas } from "../../api/client";
import { readLines } from "../../api/lines";
import { useMay } from "../../app/session";
import { duration } from "../../components/format";
import { InlineChoice } from "../../components/InlineChoice";
import { useTyped } from "../../components/useTyped";
import { RehearsalCalendar } from "./RehearsalCalendar";
import { RehearsalChart } from "./RehearsalChart";
import { MakeException } from "./RuleExceptions";
import { bodyOf, type Draft, ownUnit, type RuleOut, subjectOf, type Vocabulary } from "./ruleDraft";
import { SUBJECTS } from "./ruleWords";

const DAYS = [
  ["1", "the last day"],
  ["7", "7 days"],
  ["28", "28 days"],
] as const;

type Props = { draft: Draft; stored: RuleOut | undefined; words: Vocabulary };

type Progress = { done: number; subjects: number };
type Step = Progress | { rehearsal: Schemas["RehearsalOut"] };

async function rehearse(body: object, days: string, onProgress: (progress: Progress) => void, signal: AbortSignal) {
  const found: Schemas["RehearsalOut"][] = [];
  const take = (step: Step) => ("rehearsal" in step ? found.push(step.rehearsal) : onProgress(step));
  await readLines<Step>("rules/rehearsal/steps", { ...body, days: Number(days) }, take, signal);
  const [done] = found;
  if (!done) throw new Error("The rehearsal was broken off. Change something to try it again.");
  return done;
}

/** What a rule would have done, worked out anew while it is written. */
export function Rehearsal({ draft, stored, words }: Props) {
  const [days, setDays] = useState("7");
  const [subject, setSubject] = useState<number | null>(null);
  const isEngineer = useMay()("engineer", true);
  // A name changes nothing of what it raises.
  const typed = useTyped(JSON.stringify({ ...bodyOf(words, draft), name: "", rule_id: stored?.id ?? null }));
  const [going, setGoing] = useState<Progress | null>(null);
  const { data, error, isFetching } = useQuery({
    // Its exceptions are no part of what is typed, but of what it does.
    queryKey: ["rehearsal", typed, days, stored?.revision],
    queryFn: ({ signal }) => rehearse(JSON.parse(typed), days, setGoing, signal).finally(() => setGoing(null)),
    placeholderData: keepPreviousData,
    retry: false,
    staleTime: 60_000,
  });
  const { data: before } = useQuery({
    queryKey: ["rehearsal", "stored", stored?.id, stored?.revision, days],
    queryFn: ({ signal }) =>
      rehearse({ ...(stored as Schemas["RuleIn"]), rule_id: stored?.id }, days, () => {}, signal),
    enabled: stored !== undefined,
    retry: false,
    staleTime: 60_000,
  });
  const shown = subject ?? data?.noisiest[0]?.subject_id ?? null;
  const kind = subjectOf(words, draft.measure);
  return (
    <>
      <h2 className="heading flex-wrap text-body">
        Rehearsal{" "}
        <span className="font-normal text-ink2">
          {data &&
            `${data.subjects.toLocaleString("en-GB")} ${SUBJECTS[kind]}, ${data.step_s ? `means of ${duration(data.step_s)}` : "reading by reading"}, computed in ${(data.took_ms / 1000).toFixed(1)} s`}
        </span>
        <InlineChoice className="ml-auto font-normal" label="over" value={days} options={DAYS} onChoose={setDays} />
      </h2>
      {error && (
        <p role="status" className="py-1 text-critical">
          {error.message}
        </p>
      )}
      {isFetching && (!data || going) && (
        <p className="py-1 text-ink2">
          The rule goes through what is stored …{" "}
          {going && going.done < going.subjects && (
            <>
              <progress className="mx-1 align-middle" max={going.subjects} value={going.done} />
              {going.done.toLocaleString("en-GB")} of {going.subjects.toLocaleString("en-GB")} {SUBJECTS[kind]}
            </>
          )}
        </p>
      )}
      {data && (
        <div className={error || isFetching ? "opacity-60" : ""}>
          <Figures data={data} before={stored && before} />
          <RehearsalCalendar data={data} />
          <Noisiest data={data} shown={shown} choose={setSubject} />
          {shown !== null && !error && (
            <RehearsalChart
              body={typed}
              revision={stored?.revision}
              days={Math.min(Number(days), 7)}
              subject={shown}
              levels={draft.levels}
              unit={ownUnit(words, draft)}
            />
          )}
          {stored && shown !== null && !error && isEngineer && (
            <MakeException
              rule={stored}
              subject={shown}
              label={data.noisiest.find(({ subject_id }) => subject_id === shown)?.label ?? "it"}
            />
          )}
        </div>
      )}
    </>
  );
}

function Figures({ data, before }: { data: Schemas["RehearsalOut"]; before: Schemas["RehearsalOut"] | undefined }) {
  const was = (one: string, other: string | undefined) =>
    other !== undefined && other !== one ? <span className="text-ink2">was {other}</span> : null;
  const figure = (of: (each: Schemas["RehearsalOut"]) => string, noun: string) => (
    <p>
      <b className="figures text-headline font-semibold">{of(data)}</b> {noun} {before && was(of(data), of(before))}
    </p>
  );
  const people = Object.entries(data.messages);
  return (
    <div className="mt-1 mb-2 flex flex-wrap gap-x-8 gap-y-1">
      {figure((each) => each.alarms.toLocaleString("en-GB"), data.alarms === 1 ? "alarm" : "alarms")}
      {figure((each) => each.a_day.toFixed(1), "a day")}
      {figure((each) => each.at_night.toLocaleString("en-GB"), "at night")}
      {figure((each) => (each.longest_s ? duration(each.longest_s) : "–"), "the longest")}
      <p className="self-end pb-[3px]">
        {people.length ? (
          people.map(([contact, messages]) => (
            <span key={contact} className="mr-2">
              {messages.toLocaleString("en-GB")} messages to {contact}
            </span>
          ))
        ) : (
          <span className="font-semibold text-critical">calls nobody</span>
        )}
      </p>
    </div>
  );
}

type NoisiestProps = { data: Schemas["RehearsalOut"]; shown: number | null; choose: (subject: number) => void };

/** Who makes the alarms; one of them is shown as a chart. */
function Noisiest({ data, shown, choose }: NoisiestProps) {
  if (!data.noisiest.length)
    return (
      <p className="py-2 text-ink2">
        {data.subjects
          ? "It would have raised nothing in this time."
          : "It applies to nothing: nothing matches its condition now."}
      </p>
    );
  return (
    <>
      <h2 className="heading mt-2">
        Most alarms <span className="font-normal text-ink2">choose one to see it below</span>
      </h2>
      <ul className="grid grid-cols-2 gap-x-6 max-md:grid-cols-1">
        {data.noisiest.map((each) => (
          <li key={each.subject_id} className="border-b border-dotted border-rule">
            <button
              type="button"
              aria-pressed={each.subject_id === shown}
              className={`flex min-h-6 w-full items-center gap-2 px-1 text-left ${each.subject_id === shown ? "bg-lampsoft" : "hover:bg-lampsoft"}`}
              onClick={() => choose(each.subject_id)}
            >
              <span className="min-w-0 flex-1 truncate">{each.label}</span>
              <span className="figures">{each.alarms}</span>
              <span className="figures w-14 text-right text-ink2">{duration(each.seconds)}</span>
            </button>
          </li>
        ))}
      </ul>
    </>
  );
}
