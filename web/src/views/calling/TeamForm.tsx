import { useState } from "react";
import { client, got, type Schemas } from "../../api/client";
import { Field, Labelled } from "../../components/Field";
import { FormFoot } from "../../components/FormFoot";
import { FromUntil } from "../../components/FromUntil";
import { useKeeping } from "../setup/useKeeping";
import { ownZone } from "./ContactForm";
import { instant, wallClock } from "./wallClock";

type Team = Schemas["TeamOut"];
type Contact = Schemas["ContactOut"];
type Substitute = { key: number; contact: number; instead_of: number; start: string; end: string };
type Props = { stored?: Team; contacts: Contact[]; onDone: () => void };

export function TeamForm({ stored, contacts, onDone }: Props) {
  const [team, setTeam] = useState({
    name: stored?.name ?? "",
    members: stored?.members ?? [],
    zone: stored?.zone ?? ownZone(),
    hours: stored?.hours ?? "",
    inTurns: (stored?.turn_days ?? 0) > 0,
    turnDays: String(stored?.turn_days || 7),
    turnStart: wallClock(stored?.turn_start ? new Date(stored.turn_start) : nextMonday()),
  });
  const [substitutes, setSubstitutes] = useState<Substitute[]>(
    stored?.substitutes.map((each, key) => ({
      ...each,
      key,
      start: wallClock(new Date(each.start)),
      end: wallClock(new Date(each.end)),
    })) ?? [],
  );
  const change = (changed: Partial<typeof team>) => setTeam({ ...team, ...changed });
  const { submit, foot } = useKeeping({
    save: () => {
      const { inTurns, turnDays, turnStart, ...rest } = team;
      const body = {
        ...rest,
        turn_days: inTurns ? Number(turnDays) : 0,
        turn_start: inTurns ? instant(turnStart) : null,
        substitutes: substitutes.map(({ key: _, ...each }) => ({
          ...each,
          start: instant(each.start),
          end: instant(each.end),
        })),
      };
      if (!stored) return got(client.POST("/api/v1/teams", { body }));
      return got(
        client.PUT("/api/v1/teams/{team}", {
          params: { path: { team: stored.id } },
          body: { ...body, edition: stored.edition },
        }),
      );
    },
    remove: stored && (() => got(client.DELETE("/api/v1/teams/{team}", { params: { path: { team: stored.id } } }))),
    onDone,
  });
  const nameOf = (id: number) => contacts.find((contact) => contact.id === id)?.name ?? "gone";
  const others = contacts.filter(({ id }) => !team.members.includes(id));
  const moved = (place: number) => {
    const members = [...team.members];
    [members[place - 1], members[place]] = [members[place] as number, members[place - 1] as number];
    change({ members });
  };
  return (
    <form onSubmit={submit} className="grid grid-cols-2 gap-x-3 gap-y-2">
      <h2 className="heading col-span-2">{stored ? `Change ${stored.name}` : "New team"}</h2>
      <Field
        label="Name"
        required
        wide
        maxLength={80}
        value={team.name}
        onChange={(e) => change({ name: e.target.value })}
      />
      <fieldset className="col-span-2">
        <legend>Members</legend>
        <ol>
          {team.members.map((id, place) => (
            <li key={id} className="flex min-h-6 items-baseline gap-2 border-b border-dotted border-rule">
              <button
                type="button"
                className="min-w-6 text-ink2 hover:text-ink disabled:opacity-0"
                disabled={place === 0}
                aria-label={`Earlier turn: ${nameOf(id)}`}
                onClick={() => moved(place)}
              >
                ↑
              </button>
              {nameOf(id)}
              <button
                type="button"
                className="ml-auto min-h-6 text-ink2 underline"
                aria-label={`Remove ${nameOf(id)}`}
                onClick={() => change({ members: team.members.filter((each) => each !== id) })}
              >
                Remove
              </button>
            </li>
          ))}
        </ol>
        {others.length > 0 && (
          <select
            className="field mt-1"
            aria-label="Add a member"
            value=""
            onChange={(event) => change({ members: [...team.members, Number(event.target.value)] })}
          >
            <option value="">Add a member …</option>
            {others.map(({ id, name }) => (
              <option key={id} value={id}>
                {name}
              </option>
            ))}
          </select>
        )}
      </fieldset>
      <label className="col-span-2 flex gap-2">
        <input type="checkbox" checked={team.inTurns} onChange={(e) => change({ inTurns: e.target.checked })} />
        In turns <span className="text-ink2">one of them at a time; else all are called</span>
      </label>
      {team.inTurns && (
        <>
          <Field
            label="Days of a turn"
            type="number"
            min={1}
            max={90}
            required
            value={team.turnDays}
            onChange={(e) => change({ turnDays: e.target.value })}
          />
          <Field
            label="First turn begins"
            type="datetime-local"
            required
            value={team.turnStart}
            onChange={(e) => change({ turnStart: e.target.value })}
          />
        </>
      )}
      <Field
        label="Hours"
        hint="like Mon-Fri 08:00-18:00"
        placeholder="always"
        value={team.hours}
        onChange={(e) => change({ hours: e.target.value })}
      />
      <Field label="Time zone" required value={team.zone} onChange={(e) => change({ zone: e.target.value })} />
      <fieldset className="col-span-2 grid gap-1.5">
        <legend>Substitutes</legend>
        {substitutes.map((each) => (
          <SubstituteFields
            key={each.key}
            substitute={each}
            members={team.members}
            contacts={contacts}
            change={(changed) =>
              setSubstitutes(substitutes.map((other) => (other.key === each.key ? { ...other, ...changed } : other)))
            }
            remove={() => setSubstitutes(substitutes.filter((other) => other.key !== each.key))}
          />
        ))}
        {team.members.length > 0 && contacts.length > 1 && (
          <button
            type="button"
            className="min-h-6 justify-self-start underline"
            onClick={() => setSubstitutes([...substitutes, blankSubstitute(substitutes, team.members, contacts)])}
          >
            Add a substitute
          </button>
        )}
      </fieldset>
      <FormFoot {...foot} />
    </form>
  );
}

type SubstituteProps = {
  substitute: Substitute;
  members: number[];
  contacts: Contact[];
  change: (changed: Partial<Substitute>) => void;
  remove: () => void;
};

function SubstituteFields({ substitute, members, contacts, change, remove }: SubstituteProps) {
  const options = (ids: number[]) =>
    contacts
      .filter(({ id }) => ids.includes(id))
      .map(({ id, name }) => (
        <option key={id} value={id}>
          {name}
        </option>
      ));
  return (
    <div className="grid grid-cols-2 gap-x-3 gap-y-1 border-t border-dotted border-rule pt-1.5">
      <Labelled label="Stands in">
        <select
          className="field min-w-0"
          value={substitute.contact}
          onChange={(event) => change({ contact: Number(event.target.value) })}
        >
          {options(contacts.map(({ id }) => id))}
        </select>
      </Labelled>
      <Labelled label="instead of">
        <select
          className="field min-w-0"
          value={substitute.instead_of}
          onChange={(event) => change({ instead_of: Number(event.target.value) })}
        >
          {options(members)}
        </select>
      </Labelled>
      <FromUntil span={substitute} change={change} />
      <button type="button" className="min-h-6 justify-self-start text-ink2 underline" onClick={remove}>
        Remove
      </button>
    </div>
  );
}

function nextMonday(): Date {
  const day = new Date();
  day.setDate(day.getDate() - ((day.getDay() + 6) % 7));
  day.setHours(8, 0, 0, 0);
  return day;
}

function blankSubstitute(there: Substitute[], members: number[], contacts: Contact[]): Substitute {
  const instead_of = members[0] as number;
  const start = new Date();
  start.setMinutes(0, 0, 0);
  return {
    key: Math.max(-1, ...there.map(({ key }) => key)) + 1,
    contact: contacts.find(({ id }) => id !== instead_of)?.id ?? instead_of,
    instead_of,
    start: wallClock(start),
    end: wallClock(new Date(start.getTime() + 7 * 86_400_000)),
  };
}
