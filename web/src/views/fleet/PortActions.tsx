import { useMutation, useQuery } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { type FormEvent, useState } from "react";
import { Link } from "react-router";
import { client, got, type Schemas } from "../../api/client";
import { portActionsQuery } from "../../api/topologyQueries";
import { Field } from "../../components/Field";
import { FormFoot } from "../../components/FormFoot";
import { Impact } from "../map/Impact";

type Action = Schemas["PortActionOut"];

/** Changes something on the device: what, why, and what would fail with it is asked first; the result is what the device says. */
export function PortActions({ port, label }: { port: number; label: string }) {
  const [isOpen, setOpen] = useState(false);
  return (
    <Dialog.Root open={isOpen} onOpenChange={setOpen}>
      <Dialog.Trigger className="min-h-6 underline">change on the device …</Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-10 bg-ink/20" />
        <Dialog.Content
          aria-describedby={undefined}
          className="fixed top-16 left-1/2 z-20 max-h-[80vh] w-[480px] max-w-[94vw] -translate-x-1/2 overflow-auto border border-ink bg-sheet p-4 shadow-lg"
        >
          <Dialog.Title className="mb-2 text-title font-semibold tracking-tight">{label}</Dialog.Title>
          {isOpen && <Choose port={port} onLeave={() => setOpen(false)} />}
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

function Choose({ port, onLeave }: { port: number; onLeave: () => void }) {
  const { data, error } = useQuery(portActionsQuery(port));
  const [chosen, setChosen] = useState<Action | null>(null);
  const act = useMutation({
    mutationFn: (body: Schemas["PortActionIn"]) =>
      got(client.POST("/api/v1/interfaces/{interface}/actions", { params: { path: { interface: port } }, body })),
  });
  if (!data) return <p role="alert">{error?.message ?? "Looking at what can be done …"}</p>;
  if (act.data) return <Outcome done={act.data} onLeave={onLeave} />;
  if (data.refused) return <Refused words={data.refused} onLeave={onLeave} />;
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    if (chosen)
      act.mutate({ action: chosen.name, reason: String(form.get("reason")), text: String(form.get("text") ?? "") });
  };
  return (
    <form onSubmit={submit} className="grid grid-cols-2 gap-x-3 gap-y-2">
      <fieldset className="col-span-2">
        <legend className="mb-1 text-ink2">What is to be done</legend>
        {data.rows.map((each) => (
          <label key={each.name} className="flex min-h-6 items-center gap-2">
            <input
              type="radio"
              name="action"
              required
              checked={chosen?.name === each.name}
              onChange={() => setChosen(each)}
            />
            {each.words}
          </label>
        ))}
      </fieldset>
      {chosen?.has_text && <Field name="text" label="Description" hint="at most 64 characters" maxLength={64} wide />}
      <Field name="reason" label="Why" hint="kept in the logbook" required minLength={3} maxLength={200} wide />
      {chosen?.name === "port_down" && (
        <div className="col-span-2">
          <Impact question={{ interface: port }} />
        </div>
      )}
      <FormFoot
        problem={act.error?.message}
        isBusy={act.isPending}
        save={act.isPending ? "Setting, and reading it back …" : "Do it now"}
        onLeave={onLeave}
      />
    </form>
  );
}

function Refused({ words, onLeave }: { words: string; onLeave: () => void }) {
  return (
    <>
      <p role="alert" className="mb-3">
        {words}
      </p>
      <p className="flex gap-3">
        <Link to="/setup/credentials" className="button">
          Credentials
        </Link>
        <button type="button" className="button" onClick={onLeave}>
          Close
        </button>
      </p>
    </>
  );
}

function Outcome({ done, onLeave }: { done: Schemas["DoneOut"]; onLeave: () => void }) {
  return (
    <>
      <p role="status" className={`mb-3 ${done.is_done ? "" : "text-critical"}`}>
        {done.is_done ? "Done: " : "Not done: "}
        {done.words}
      </p>
      <button type="button" className="button" onClick={onLeave}>
        Close
      </button>
    </>
  );
}
