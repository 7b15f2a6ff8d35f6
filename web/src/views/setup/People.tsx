import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { client, got, type Schemas } from "../../api/client";
import { groupsQuery, sitesQuery } from "../../api/queries";
import { peopleQuery } from "../../api/setupQueries";
import type { Role } from "../../app/session";
import { Field, Labelled } from "../../components/Field";
import { FormFoot } from "../../components/FormFoot";
import { moment } from "../../components/format";
import { Problem } from "../../components/Problem";
import { OrderedPage } from "./OrderedPage";
import { useKeeping } from "./useKeeping";

type Person = Schemas["PersonOut"];

/** Who may sign in, and what they may. */
export function People() {
  const { data, error } = useQuery(peopleQuery);
  if (!data) return <Problem error={error} />;
  return (
    <OrderedPage
      title="People and roles"
      words="Each person signs in with their own name. The role decides what they may do; sites and groups limit what they see."
      make="Add a person"
      rows={data.people}
      listed={peopleQuery.queryKey}
      form={(stored, onDone) => (
        <PersonForm {...(stored ? { stored } : {})} key={stored?.id ?? 0} roles={data.roles} onDone={onDone} />
      )}
      said={(row) => <Said row={row} />}
      aside={(row) => (
        <span className="text-ink2">
          {row.last_sign_in ? `last signed in ${moment(new Date(row.last_sign_in))}` : "has never signed in"}
          {row.sessions > 0 && `, ${row.sessions} ${row.sessions === 1 ? "session" : "sessions"}`}
          {row.tokens > 0 && `, ${row.tokens} ${row.tokens === 1 ? "token" : "tokens"}`}
        </span>
      )}
      empty="No people yet."
    />
  );
}

function Said({ row }: { row: Person }) {
  const part = [...row.sites, ...row.groups.map((group) => `group ${group}`)];
  return (
    <span className="text-ink2">
      {row.role}
      {part.length > 0 && `, only ${part.join(", ")}`}
      {!row.active && <b className="font-medium text-critical"> barred</b>}
    </span>
  );
}

type Form = { stored?: Person; roles: Schemas["RoleOut"][]; onDone: () => void };

function PersonForm({ stored, roles, onDone }: Form) {
  const { data: sites, error } = useQuery(sitesQuery);
  const { data: groups } = useQuery(groupsQuery);
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const [email, setEmail] = useState(stored?.email ?? "");
  const [role, setRole] = useState<Role>(stored?.role ?? "viewer");
  const [chosen, setChosen] = useState({ sites: stored?.sites ?? [], groups: stored?.groups ?? [] });
  const [active, setActive] = useState(stored?.active ?? true);
  const body = { email, role, ...chosen, active };
  const keeping = useKeeping({
    listed: peopleQuery.queryKey,
    save: () =>
      stored
        ? got(
            client.PUT("/api/v1/people/{user}", {
              params: { path: { user: stored.id } },
              body: { ...body, edition: stored.edition, password },
            }),
          )
        : got(client.POST("/api/v1/people", { body: { ...body, name, password } })),
    remove: stored && (() => got(client.DELETE("/api/v1/people/{user}", { params: { path: { user: stored.id } } }))),
    onDone,
  });
  // Saved before they are there, somebody of one site would see everything.
  if (!sites || !groups) return <Problem error={error} />;
  const names = (select: HTMLSelectElement) => [...select.selectedOptions].map((option) => option.value);
  return (
    <form onSubmit={keeping.submit} className="grid grid-cols-2 gap-x-3 gap-y-2">
      <h2 className="heading col-span-2">{stored ? stored.name : "New person"}</h2>
      {!stored && (
        <Field
          label="Name"
          hint="to sign in with"
          wide
          required
          maxLength={150}
          value={name}
          onChange={(event) => setName(event.target.value)}
        />
      )}
      <Field
        label={stored ? "Change password" : "Password"}
        hint={stored ? "empty: stays as it is" : "at least 12 characters"}
        wide
        type="password"
        autoComplete="new-password"
        required={!stored}
        value={password}
        onChange={(event) => setPassword(event.target.value)}
      />
      <Field
        label="Mail"
        hint="for notifications"
        wide
        type="email"
        value={email}
        onChange={(event) => setEmail(event.target.value)}
      />
      <fieldset className="col-span-2 grid gap-1">
        <legend className="mb-1">Role</legend>
        {roles.map((each) => (
          <label key={each.role} className="flex gap-2">
            <input type="radio" name="role" checked={role === each.role} onChange={() => setRole(each.role)} />
            <span>
              {each.role} <span className="text-ink2">{each.may}</span>
            </span>
          </label>
        ))}
      </fieldset>
      <Labelled label="Only these sites" hint="none: all">
        <select
          multiple
          size={6}
          className="field min-w-0"
          value={chosen.sites}
          onChange={(event) => setChosen({ ...chosen, sites: names(event.target) })}
        >
          {sites.map((site) => site.name && <option key={site.name}>{site.name}</option>)}
        </select>
      </Labelled>
      <Labelled label="Only these groups" hint="none: all">
        <select
          multiple
          size={6}
          className="field min-w-0"
          value={chosen.groups}
          onChange={(event) => setChosen({ ...chosen, groups: names(event.target) })}
        >
          {groups.rows.map((group) => (
            <option key={group.name}>{group.name}</option>
          ))}
        </select>
      </Labelled>
      <p className="col-span-2 text-ink2">
        {chosen.sites.length + chosen.groups.length === 0
          ? "Sees the whole network."
          : "Sees only these: no other devices, alarms or figures, and no network-wide pages."}
      </p>
      <label className="col-span-2 flex gap-2">
        <input type="checkbox" checked={active} onChange={(event) => setActive(event.target.checked)} /> may sign in
      </label>
      <FormFoot {...keeping.foot} />
    </form>
  );
}
