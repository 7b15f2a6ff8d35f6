import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { client, got, type Schemas } from "../../api/client";
import { decidedQuery } from "../../api/setupQueries";
import { Choice, Field } from "../../components/Field";
import { FormFoot } from "../../components/FormFoot";
import { tagsOf, tagText } from "../setup/words";

/** What a port is for, who decided that, and a way to decide it for this port alone. */
export function PortRole({ port, role }: { port: number; role: string }) {
  const [open, setOpen] = useState(false);
  const { data } = useQuery({ ...decidedQuery(port), enabled: open });
  return (
    <>
      <button type="button" className="underline" aria-expanded={open} onClick={() => setOpen(!open)}>
        {role || "no role"} …
      </button>
      {open && data && <Decided key={JSON.stringify(data)} port={port} decided={data} onDone={() => setOpen(false)} />}
    </>
  );
}

type Props = { port: number; decided: Schemas["DecidedOut"]; onDone: () => void };

function Decided({ port, decided, onDone }: Props) {
  const queries = useQueryClient();
  const save = useMutation({
    mutationFn: (form: FormData) => {
      const word = (name: string) => String(form.get(name) ?? "").trim();
      const body = {
        label: word("label") || null,
        role: word("role") === "by rule" ? null : word("role"),
        tags: tagsOf(word("tags")),
      };
      return got(client.PUT("/api/v1/interfaces/{interface}/decided", { params: { path: { interface: port } }, body }));
    },
    onSuccess: () => {
      onDone();
      void queries.invalidateQueries();
    },
  });
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    save.mutate(new FormData(event.currentTarget));
  };
  const lines: [string, string, string][] = [
    ["label", decided.label, decided.label_by],
    ["role", decided.role || "none", decided.role_by],
    ...Object.entries(decided.tags).map(([key, value]): [string, string, string] => [
      `tag ${key}`,
      value,
      decided.tags_by[key] ?? "",
    ]),
  ];
  return (
    <div className="my-2 max-w-[600px] border-l-2 border-ink pl-3 text-ink">
      <dl className="grid grid-cols-[90px_minmax(0,1fr)]">
        {lines.map(([name, value, by]) => (
          <div key={name} className="contents">
            <dt className="text-ink2">{name}</dt>
            <dd>
              {value} <span className="text-ink2">decided by {by}</span>
            </dd>
          </div>
        ))}
      </dl>
      <form onSubmit={submit} className="mt-2 grid grid-cols-2 gap-x-3 gap-y-2">
        <Field
          name="label"
          label="Label of this port"
          hint="empty: by rule"
          maxLength={255}
          defaultValue={decided.own_label ?? ""}
        />
        <Choice
          name="role"
          label="Role"
          options={["by rule", "", ...decided.roles]}
          defaultValue={decided.own_role ?? "by rule"}
        />
        <Field name="tags" label="Tags" hint="key=value; key=value" wide defaultValue={tagText(decided.own_tags)} />
        <FormFoot problem={save.error?.message} isBusy={save.isPending} onLeave={onDone} />
      </form>
    </div>
  );
}
