import type { SignInWay } from "../../api/controllerQueries";
import { Field } from "../../components/Field";

type Props = {
  way: SignInWay;
  /** What is left empty stays as it is. */
  isKept: boolean;
  secret: Record<string, string>;
  onChange: (secret: Record<string, string>) => void;
};
const LABELS: Record<string, string> = { user: "Name to sign in", password: "Password", token: "Token" };

/** What one signs in with; nothing that is typed here is ever shown again. */
export function SignInSecret({ way, isKept, secret, onChange }: Props) {
  return way.secret.map((name) => (
    <Field
      key={name}
      wide={way.secret.length === 1}
      label={LABELS[name] ?? name}
      type={name === "user" ? "text" : "password"}
      placeholder={isKept ? "stays as it is" : ""}
      value={secret[name] ?? ""}
      onChange={(event) => onChange({ ...secret, [name]: event.target.value })}
    />
  ));
}
