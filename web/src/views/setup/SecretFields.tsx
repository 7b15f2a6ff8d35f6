import type { Schemas } from "../../api/client";
import { Choice, Field } from "../../components/Field";

export const KINDS = ["v1", "v2c", "v3"] as const;
export type Kind = (typeof KINDS)[number];

/** What a form of these fields holds, for the API. */
export function secretOf(form: FormData, kind: Kind): Record<string, string> {
  const names = kind === "v3" ? ["user", "auth", "auth_password", "priv", "priv_password"] : ["community"];
  return Object.fromEntries(names.map((name) => [name, String(form.get(name) ?? "")]));
}

type Props = {
  kind: Kind;
  onKind: (kind: Kind) => void;
  protocols: Schemas["Protocols"];
  /** The stored credential that is being changed: what is left empty stays as it is. */
  stored?: Schemas["CredentialOut"];
};

/** How a device is spoken to. Nothing that is typed here is ever shown again. */
export function SecretFields({ kind, onKind, protocols, stored }: Props) {
  const same = stored?.kind === kind;
  const keeps = same ? "empty: stays as it is" : "stored encrypted, never shown again";
  return (
    <>
      <fieldset className="col-span-2 flex gap-4 pt-1">
        <legend className="sr-only">SNMP version</legend>
        {KINDS.map((each) => (
          <label key={each} className="flex gap-1.5">
            <input type="radio" name="kind" checked={kind === each} onChange={() => onKind(each)} />
            SNMP {each}
          </label>
        ))}
      </fieldset>
      {kind === "v3" ? (
        <>
          <Field name="user" label="User" required wide defaultValue={stored?.user} />
          <Field
            name="auth_password"
            label="Authentication password"
            placeholder={same ? "stays as it is" : "8 characters or more"}
            type="password"
          />
          <Choice name="auth" label="by" options={["", ...protocols.auth]} defaultValue={stored?.auth ?? "sha256"} />
          <Field
            name="priv_password"
            label="Privacy password"
            placeholder={same ? "stays as it is" : "8 characters or more"}
            type="password"
          />
          <Choice name="priv" label="by" options={["", ...protocols.priv]} defaultValue={stored?.priv ?? "aes128"} />
        </>
      ) : (
        <Field name="community" label="Community" hint={keeps} required={!same} wide type="password" />
      )}
    </>
  );
}
