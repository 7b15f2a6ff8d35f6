import type { Schemas } from "../../api/client";
import { SEVERITIES } from "../../components/severities";
import type { DraftStep } from "./planDraft";

type Props = {
  steps: DraftStep[];
  channels: Schemas["ChannelOut"][];
  contacts: Schemas["ContactOut"][];
  teams: Schemas["TeamOut"][];
  change: (steps: DraftStep[]) => void;
};

const word = "h-[26px] rounded border border-ink2 bg-sheet px-1 font-medium [field-sizing:content]";

/** The steps of a call plan, each a sentence with fields in it. */
export function PlanSteps({ steps, channels, contacts, teams, change }: Props) {
  const set = (key: number, changed: Partial<DraftStep>) =>
    change(steps.map((step) => (step.key === key ? { ...step, ...changed } : step)));
  return (
    <ol>
      {steps.map((step, place) => (
        <li key={step.key} className="border-b border-dotted border-rule py-1.5 leading-[2.2]">
          <Step
            step={step}
            number={place + 1}
            channels={channels}
            contacts={contacts}
            teams={teams}
            set={(changed) => set(step.key, changed)}
            remove={steps.length > 1 ? () => change(steps.filter(({ key }) => key !== step.key)) : undefined}
          />
        </li>
      ))}
    </ol>
  );
}

type StepProps = Omit<Props, "steps" | "change"> & {
  step: DraftStep;
  number: number;
  set: (changed: Partial<DraftStep>) => void;
  remove: (() => void) | undefined;
};

function Step({ step, number, channels, contacts, teams, set, remove }: StepProps) {
  const label = (words: string) => `Step ${number}: ${words}`;
  const figure = (words: string, name: "minutes" | "times" | "everyMinutes", least: number) => (
    <input
      aria-label={label(words)}
      className={`${word} figures min-w-9 text-right`}
      type="number"
      min={least}
      step="any"
      required
      value={step[name]}
      onChange={(event) => set({ [name]: event.target.value })}
    />
  );
  const named = [
    ...teams.filter(({ id }) => step.teams.includes(id)).map(({ id, name }) => ({ kind: "teams" as const, id, name })),
    ...contacts
      .filter(({ id }) => step.contacts.includes(id))
      .map(({ id, name }) => ({ kind: "contacts" as const, id, name })),
  ];
  return (
    <>
      After {figure("minutes", "minutes", 0)} min call{" "}
      {named.map(({ kind, id, name }) => (
        <Chosen
          key={`${kind}${id}`}
          name={name}
          label={label}
          remove={() => set({ [kind]: step[kind].filter((each) => each !== id) })}
        />
      ))}
      <select
        aria-label={label("add whom to call")}
        className={`${word} font-normal ${named.length ? "" : "border-critical"}`}
        value=""
        onChange={(event) => {
          const [kind, id] = event.target.value.split(" ");
          if (kind === "teams") set({ teams: [...step.teams, Number(id)] });
          else set({ contacts: [...step.contacts, Number(id)] });
        }}
      >
        <option value="">{named.length ? "and …" : "choose whom …"}</option>
        <optgroup label="Teams">
          {teams
            .filter(({ id }) => !step.teams.includes(id))
            .map(({ id, name }) => (
              <option key={id} value={`teams ${id}`}>
                {name}
              </option>
            ))}
        </optgroup>
        <optgroup label="Contacts">
          {contacts
            .filter(({ id }) => !step.contacts.includes(id))
            .map(({ id, name }) => (
              <option key={id} value={`contacts ${id}`}>
                {name}
              </option>
            ))}
        </optgroup>
      </select>{" "}
      by{" "}
      {step.channels.map((name) => (
        <Chosen
          key={name}
          name={(channels.find((channel) => channel.name === name)?.words ?? name).toLowerCase()}
          label={label}
          remove={() => set({ channels: step.channels.filter((each) => each !== name) })}
        />
      ))}
      <select
        aria-label={label("by which channel")}
        className={`${word} ${step.channels.length ? "font-normal" : ""}`}
        value=""
        onChange={(event) => set({ channels: [...step.channels, event.target.value] })}
      >
        <option value="">{step.channels.length ? "and …" : "every address"}</option>
        {channels
          .filter(({ name }) => !step.channels.includes(name))
          .map(({ name, words }) => (
            <option key={name} value={name}>
              {step.channels.length ? words.toLowerCase() : `only ${words.toLowerCase()}`}
            </option>
          ))}
      </select>
      , for{" "}
      <select
        aria-label={label("from which severity")}
        className={word}
        value={step.from_severity}
        onChange={(event) => set({ from_severity: Number(event.target.value) })}
      >
        {SEVERITIES.slice(1).map((each, place) => (
          <option key={each.word} value={place + 1}>
            {place ? `${each.word}${place < 4 ? " or worse" : ""}` : "every severity"}
          </option>
        ))}
      </select>
      , {figure("how often", "times", 1)} {step.times === "1" ? "time" : "times"}
      {Number(step.times) > 1 && <>, every {figure("minutes between", "everyMinutes", 1)} min</>}.
      {remove && (
        <button type="button" className="ml-2 text-ink2 underline" aria-label={label("delete")} onClick={remove}>
          Delete
        </button>
      )}
    </>
  );
}

type ChosenProps = { name: string; label: (words: string) => string; remove: () => void };

/** Something that was chosen, and can be left out again. */
function Chosen({ name, label, remove }: ChosenProps) {
  return (
    <span className="mr-1 inline-block rounded border border-rule bg-sheet px-1 leading-[22px]">
      <b className="font-medium">{name}</b>{" "}
      <button
        type="button"
        className="min-w-6 text-ink2 hover:text-ink"
        aria-label={label(`leave out ${name}`)}
        onClick={remove}
      >
        ×
      </button>
    </span>
  );
}
