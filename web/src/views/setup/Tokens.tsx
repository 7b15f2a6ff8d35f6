import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { client, got, type Schemas } from "../../api/client";
import { sessionQuery } from "../../api/queries";
import { tokensQuery } from "../../api/setupQueries";
import { includes, type Role } from "../../app/session";
import { Choice, Field } from "../../components/Field";
import { FormFoot } from "../../components/FormFoot";
import { moment } from "../../components/format";
import { Problem } from "../../components/Problem";
import { Page } from "./Page";

const ROLES: Role[] = ["viewer", "operator", "engineer", "administrator"];
const ENDS = { "30 days": 30, "90 days": 90, "a year": 365, "no end": null } as const;

/** What scripts come with instead of a password. */
export function Tokens() {
  const { data, error } = useQuery(tokensQuery);
  const { data: session } = useQuery(sessionQuery);
  const queries = useQueryClient();
  const revoke = useMutation({
    mutationFn: (token: number) => got(client.DELETE("/api/v1/tokens/{token}", { params: { path: { token } } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: tokensQuery.queryKey }),
  });
  return (
    <Page
      title="Tokens"
      words="A script sends one as Authorization: Bearer. It may what its role says, never more than its owner, and nothing once it has ended or been revoked."
      aside={<TokenForm role={session?.role ?? "viewer"} />}
    >
      <Problem error={error ?? revoke.error} />
      {data?.length === 0 && <p className="text-ink2">There is none yet.</p>}
      <ul className={data?.length ? "border-t border-rule" : ""}>
        {data?.map((token) => (
          <li
            key={token.id}
            className="figures grid grid-cols-[minmax(0,1fr)_100px_150px_170px_60px] items-baseline gap-3 border-b border-faint py-1.5 max-md:grid-cols-[minmax(0,1fr)_auto]"
          >
            <span className="truncate">
              <b className="font-medium">{token.name}</b>{" "}
              {token.user !== session?.user && <span className="text-ink2">of {token.user}</span>}
            </span>
            <span className="text-ink2">{token.role}</span>
            <Ends token={token} />
            <span className="text-ink2">
              {token.used_at
                ? `used ${moment(new Date(token.used_at))}${token.used_from ? ` from ${token.used_from}` : ""}`
                : "never used"}
            </span>
            {token.revoked_at ? (
              <span />
            ) : (
              <button
                type="button"
                className="text-critical underline"
                aria-label={`Revoke ${token.name}`}
                onClick={() => revoke.mutate(token.id)}
              >
                Revoke
              </button>
            )}
          </li>
        ))}
      </ul>
    </Page>
  );
}

function Ends({ token }: { token: Schemas["TokenOut"] }) {
  if (token.revoked_at) return <span className="text-critical">revoked {moment(new Date(token.revoked_at))}</span>;
  if (!token.expires_at) return <span>has no end</span>;
  const over = Date.parse(token.expires_at) < Date.now();
  return (
    <span className={over ? "text-critical" : ""}>
      {over ? "ended" : "until"} {moment(new Date(token.expires_at))}
    </span>
  );
}

function TokenForm({ role }: { role: Role }) {
  const [made, setMade] = useState<Schemas["NewToken"] | null>(null);
  const queries = useQueryClient();
  const make = useMutation({
    mutationFn: (form: FormData) =>
      got(
        client.POST("/api/v1/tokens", {
          body: {
            name: String(form.get("name")),
            role: String(form.get("role")) as Role,
            days: ENDS[String(form.get("ends")) as keyof typeof ENDS],
          },
        }),
      ),
    onSuccess: (token) => {
      setMade(token);
      void queries.invalidateQueries({ queryKey: tokensQuery.queryKey });
    },
  });
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = event.currentTarget;
    make.mutate(new FormData(form), { onSuccess: () => form.reset() });
  };
  return (
    <form onSubmit={submit} className="grid grid-cols-2 gap-x-3 gap-y-2">
      <h2 className="heading col-span-2">A new token</h2>
      <Field name="name" label="Name" hint="its purpose" wide required maxLength={80} />
      <Choice name="role" label="Role" options={ROLES.filter((each) => includes(role, each))} />
      <Choice name="ends" label="Valid for" options={Object.keys(ENDS)} defaultValue="90 days" />
      <FormFoot problem={make.error?.message} isBusy={make.isPending} save="Create token" />
      {made && (
        <div role="status" className="col-span-2 grid gap-1 border border-ink p-2">
          <p>
            {made.token.name}: copy it now, <b className="font-semibold">shown only once</b>.
          </p>
          <code className="figures text-small break-all select-all">{made.secret}</code>
          <p className="flex gap-2">
            <button type="button" className="button" onClick={() => void navigator.clipboard?.writeText(made.secret)}>
              Copy
            </button>
            <button type="button" className="button" onClick={() => setMade(null)}>
              I have it
            </button>
          </p>
        </div>
      )}
    </form>
  );
}
