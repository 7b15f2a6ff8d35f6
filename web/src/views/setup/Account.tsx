import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { client, got } from "../../api/client";
import { sessionQuery } from "../../api/queries";
import { sessionsQuery } from "../../api/setupQueries";
import { Field } from "../../components/Field";
import { FormFoot } from "../../components/FormFoot";
import { moment } from "../../components/format";
import { Problem } from "../../components/Problem";
import { Page } from "./Page";

/** One's own password, and where one is signed in. */
export function Account() {
  const { data: session } = useQuery(sessionQuery);
  const { data: sessions, error } = useQuery(sessionsQuery);
  const queries = useQueryClient();
  const again = () => queries.invalidateQueries({ queryKey: sessionsQuery.queryKey });
  const end = useMutation({
    mutationFn: (id: string) => got(client.DELETE("/api/v1/sessions/{id}", { params: { path: { id } } })),
    onSuccess: again,
  });
  const endOthers = useMutation({ mutationFn: () => got(client.DELETE("/api/v1/sessions", {})), onSuccess: again });
  const others = sessions?.filter((each) => !each.here).length ?? 0;
  return (
    <Page
      title="My account"
      words={`Signed in as ${session?.user}, ${session?.role}${session?.limited ? ", for a part of the network" : ""}.`}
      aside={<PasswordForm />}
    >
      <h2 className="heading">Your sessions</h2>
      <Problem error={error ?? end.error ?? endOthers.error} />
      {sessions?.map((each) => (
        <p
          key={each.id}
          className="figures grid grid-cols-[130px_120px_minmax(0,1fr)_auto] gap-3 border-b border-faint py-1.5 max-md:grid-cols-[minmax(0,1fr)_auto]"
        >
          <span>{each.here ? <b className="font-semibold">here</b> : moment(new Date(each.seen_at))}</span>
          <span className="text-ink2">{each.address}</span>
          <span className="truncate text-ink2" title={each.browser}>
            {each.browser || "unknown browser"}
          </span>
          {each.here ? (
            <span />
          ) : (
            <button type="button" className="underline" onClick={() => end.mutate(each.id)}>
              End
            </button>
          )}
        </p>
      ))}
      {others > 0 && (
        <button type="button" className="button mt-3" onClick={() => endOthers.mutate()}>
          Sign out everywhere else
        </button>
      )}
    </Page>
  );
}

function PasswordForm() {
  const [done, setDone] = useState(false);
  const queries = useQueryClient();
  const change = useMutation({
    mutationFn: (form: FormData) =>
      got(
        client.PUT("/api/v1/session/password", {
          body: { old: String(form.get("old")), new: String(form.get("new")) },
        }),
      ),
    onSuccess: () => {
      setDone(true);
      void queries.invalidateQueries({ queryKey: sessionsQuery.queryKey });
    },
  });
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = event.currentTarget;
    change.mutate(new FormData(form), { onSuccess: () => form.reset() });
  };
  return (
    <form onSubmit={submit} onChange={() => setDone(false)} className="grid gap-2">
      <h2 className="heading">Change password</h2>
      <Field name="old" label="Current password" type="password" autoComplete="current-password" required />
      <Field
        name="new"
        label="New password"
        hint="at least 12 characters, nothing that is easily guessed"
        type="password"
        autoComplete="new-password"
        required
      />
      {done && <p role="status">Password changed. Your other sessions are signed out.</p>}
      <FormFoot problem={change.error?.message} isBusy={change.isPending} save="Change password" />
    </form>
  );
}
