import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import {
  type Controller,
  type ControllerProfile,
  type ControllerProfileBody,
  controllerKindsQuery,
  deleteControllerProfile,
  keepControllerProfile,
  type Listing,
  type ListKind,
} from "../../api/controllerQueries";
import { Field, Labelled } from "../../components/Field";
import { FormFoot } from "../../components/FormFoot";
import { Problem } from "../../components/Problem";
import { useKeeping } from "../setup/useKeeping";
import { ProfileTrial } from "./ProfileTrial";

type SignIn = NonNullable<ControllerProfileBody["sign_in"]>;
const NO_SIGN_IN: SignIn = {
  way: "none",
  header: "",
  path: "",
  user_field: "username",
  password_field: "password",
  token: "",
};
const NOTHING: Listing = { path: "", rows: "$.items[*]", fields: {}, next_page: "", up: [] };

type Props = { row: ControllerProfile | null; controllers: Controller[]; onDone: () => void };

/** How one make of controller is asked; it can be tried before it is kept. */
export function ControllerProfileForm({ row, controllers, onDone }: Props) {
  const { data: kinds, error } = useQuery(controllerKindsQuery);
  const [name, setName] = useState(row?.name ?? "");
  const [signIn, setSignIn] = useState<SignIn>(row?.sign_in ?? NO_SIGN_IN);
  const [lists, setLists] = useState<Record<string, Listing>>(row?.lists ?? { device: NOTHING });
  const body: ControllerProfileBody = { name, sign_in: signIn, lists };
  const { submit, foot } = useKeeping({
    listed: ["controllers"],
    save: () => keepControllerProfile(row?.id ?? null, body),
    remove: row ? () => deleteControllerProfile(row.id) : undefined,
    onDone,
  });
  if (!kinds) return <Problem error={error} />;
  const change = (kind: string, listing: Listing | null) => {
    const { [kind]: _, ...others } = lists;
    setLists(listing ? { ...lists, [kind]: listing } : others);
  };
  return (
    <form onSubmit={submit} className="grid grid-cols-2 gap-2" aria-label="Profile of controllers">
      <h2 className="heading col-span-2">{row ? `Change ${row.name}` : "New profile of controllers"}</h2>
      <Field
        wide
        label="Name"
        required
        maxLength={120}
        value={name}
        onChange={(event) => setName(event.target.value)}
      />
      <Labelled label="One signs in by" wide>
        <select
          className="field"
          value={signIn.way}
          onChange={(event) => setSignIn({ ...signIn, way: event.target.value })}
        >
          {kinds.ways.map((way) => (
            <option key={way.name} value={way.name}>
              {way.words}
            </option>
          ))}
        </select>
      </Labelled>
      <SignInFields signIn={signIn} onChange={setSignIn} />
      {kinds.lists.map((kind) => (
        <ListFields
          key={kind.name}
          kind={kind}
          listing={lists[kind.name]}
          onChange={(listing) => change(kind.name, listing)}
        />
      ))}
      <FormFoot {...foot} />
      <ProfileTrial
        body={body}
        way={kinds.ways.find(({ name }) => name === signIn.way)}
        kinds={kinds.lists}
        controllers={controllers}
      />
    </form>
  );
}

function SignInFields({ signIn, onChange }: { signIn: SignIn; onChange: (signIn: SignIn) => void }) {
  const field = (name: keyof SignIn, label: string, hint: string) => (
    <Field
      label={label}
      hint={hint}
      value={signIn[name]}
      onChange={(event) => onChange({ ...signIn, [name]: event.target.value })}
    />
  );
  if (signIn.way === "header") return field("header", "Header", "X-Api-Key");
  if (signIn.way !== "session") return null;
  return (
    <>
      {field("path", "Where one signs in", "/api/session")}
      {field("token", "Token in the answer", "JSONPath; empty: cookies")}
      {field("user_field", "Name is sent as", "")}
      {field("password_field", "Password is sent as", "")}
      {field("header", "Token is sent in", "empty: Authorization")}
    </>
  );
}

type ListProps = { kind: ListKind; listing: Listing | undefined; onChange: (listing: Listing | null) => void };

function ListFields({ kind, listing, onChange }: ListProps) {
  if (!listing)
    return (
      <p className="col-span-2">
        <button type="button" className="min-h-6 underline" onClick={() => onChange(NOTHING)}>
          Ask for {kind.words} too
        </button>
      </p>
    );
  const set = (changed: Partial<Listing>) => onChange({ ...listing, ...changed });
  return (
    <fieldset className="col-span-2 grid grid-cols-2 gap-x-3 gap-y-1 border-t border-rule pt-1">
      <legend className="pr-2 font-semibold">
        {kind.words}{" "}
        {kind.name !== "device" && (
          <button type="button" className="min-h-6 font-normal underline" onClick={() => onChange(null)}>
            do not ask for them
          </button>
        )}
      </legend>
      <Field
        label="Asked for at"
        hint={`/api/${kind.words}`}
        required
        value={listing.path}
        onChange={(event) => set({ path: event.target.value })}
      />
      <Field
        label="Rows"
        hint="JSONPath"
        required
        value={listing.rows}
        onChange={(event) => set({ rows: event.target.value })}
      />
      {kind.fields.map(({ name, words, is_needed }) => (
        <Field
          key={name}
          label={words}
          hint={name === "id" ? "empty: its name" : ""}
          required={is_needed}
          placeholder={`$.${name}`}
          value={listing.fields[name] ?? ""}
          onChange={(event) => set({ fields: { ...listing.fields, [name]: event.target.value } })}
        />
      ))}
      <Field
        label="Next page"
        hint="JSONPath; empty: one page"
        value={listing.next_page ?? ""}
        onChange={(event) => set({ next_page: event.target.value })}
      />
      {kind.has_state && (
        <Field
          label="States that are well"
          hint="empty: up, ok, online …"
          value={(listing.up ?? []).join(", ")}
          onChange={(event) => set({ up: event.target.value.split(",").map((word) => word.trim()) })}
        />
      )}
    </fieldset>
  );
}
