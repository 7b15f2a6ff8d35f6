import { useMutation, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { client, got } from "../api/client";
import { sessionQuery } from "../api/queries";
import { Mark } from "./Mark";

/** Sign-in, or on an empty installation the making of its administrator. */
export function SignIn({ firstRun }: { firstRun: boolean }) {
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const queries = useQueryClient();
  const enter = useMutation({
    mutationFn: () =>
      got(client.POST(firstRun ? "/api/v1/session/first-run" : "/api/v1/session", { body: { name, password } })),
    onSuccess: (session) => queries.setQueryData(sessionQuery.queryKey, session),
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    enter.mutate();
  };
  return (
    <main className="mx-auto grid h-full max-w-[320px] content-center">
      <Mark />
      <form onSubmit={submit} className="mt-6 grid gap-3">
        <h1 className="text-headline leading-tight tracking-tight">
          {firstRun ? "There is no user yet. Create the administrator." : "Sign in"}
        </h1>
        <label className="grid gap-1">
          Name
          <input
            className="field"
            autoComplete="username"
            required
            value={name}
            onChange={(event) => setName(event.target.value)}
          />
        </label>
        <label className="grid gap-1">
          Password
          <input
            className="field"
            type="password"
            autoComplete={firstRun ? "new-password" : "current-password"}
            required
            value={password}
            onChange={(event) => setPassword(event.target.value)}
          />
          {firstRun && <span className="text-ink2">At least 12 characters; nothing that is easily guessed.</span>}
        </label>
        <p role="alert" className="min-h-[18px] text-critical">
          {enter.error?.message}
        </p>
        <button type="submit" className="button justify-self-start" disabled={enter.isPending}>
          {firstRun ? "Create administrator" : "Sign in"}
        </button>
      </form>
    </main>
  );
}
