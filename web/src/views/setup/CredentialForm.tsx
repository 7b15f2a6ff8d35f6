import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { client, got, type Schemas } from "../../api/client";
import { sitesQuery } from "../../api/queries";
import { credentialsQuery } from "../../api/setupQueries";
import { Field, Labelled } from "../../components/Field";
import { FormFoot } from "../../components/FormFoot";
import { Problem } from "../../components/Problem";
import { type Kind, SecretFields, secretOf } from "./SecretFields";

/** Where a network's own devices are, unless somebody says otherwise. */
const PRIVATE =
  "10.0.0.0/8, 172.16.0.0/12, 192.168.0.0/16, 100.64.0.0/10, 169.254.0.0/16, 127.0.0.0/8, fc00::/7, fe80::/10, ::1/128";

type Props = { stored?: Schemas["CredentialOut"]; protocols: Schemas["Protocols"]; onDone: () => void };

/** Making a credential, or changing one for every device that uses it. */
export function CredentialForm({ stored, protocols, onDone }: Props) {
  const { data: sites, error } = useQuery(sitesQuery);
  const [kind, setKind] = useState<Kind>((stored?.kind as Kind) ?? "v3");
  const queries = useQueryClient();
  const onSuccess = () => {
    void queries.invalidateQueries({ queryKey: credentialsQuery.queryKey });
    onDone();
  };
  const save = useMutation({
    mutationFn: (form: FormData) => {
      const body = {
        name: String(form.get("name")),
        kind,
        secret: secretOf(form, kind),
        sites: form.getAll("sites").map(String),
        ranges: String(form.get("ranges")),
        is_for_writing: form.get("is_for_writing") !== null,
      };
      if (!stored) return got(client.POST("/api/v1/credentials", { body }));
      return got(
        client.PUT("/api/v1/credentials/{credential}", {
          params: { path: { credential: stored.id } },
          body: { ...body, edition: stored.edition },
        }),
      );
    },
    onSuccess,
  });
  const remove = useMutation({
    mutationFn: (credential: number) =>
      got(client.DELETE("/api/v1/credentials/{credential}", { params: { path: { credential } } })),
    onSuccess,
  });
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    save.mutate(new FormData(event.currentTarget));
  };
  // Saved before the sites are there, a credential of one site would become one for everywhere.
  if (!sites) return <Problem error={error} />;
  return (
    <form onSubmit={submit} className="grid grid-cols-[1fr_110px] gap-x-3 gap-y-2">
      <h2 className="heading col-span-2">{stored ? `Change ${stored.name}` : "A new credential"}</h2>
      <Field
        name="name"
        label="Name"
        hint="as people search for it"
        required
        wide
        maxLength={80}
        defaultValue={stored?.name}
      />
      <SecretFields kind={kind} onKind={setKind} protocols={protocols} {...(stored ? { stored } : {})} />
      <Labelled label="Only at these sites" hint="none: all sites" wide>
        <select name="sites" multiple size={5} className="field" defaultValue={stored?.sites}>
          {sites.map((site) => site.name && <option key={site.name}>{site.name}</option>)}
        </select>
      </Labelled>
      <Labelled label="Allowed addresses" hint="ranges, separated by commas" wide>
        <textarea
          name="ranges"
          rows={4}
          className="field min-w-0"
          defaultValue={stored?.ranges ?? PRIVATE}
          spellCheck={false}
        />
      </Labelled>
      <label className="col-span-2 flex min-h-6 items-center gap-2">
        <input type="checkbox" name="is_for_writing" defaultChecked={stored?.is_for_writing ?? false} />
        For writing: devices are changed with it, never read
      </label>
      {stored && stored.devices > 0 && (
        <p className="col-span-2 text-ink2">
          A change holds at once for the {stored.devices}{" "}
          {stored.devices === 1 ? "device that uses" : "devices that use"} it.
        </p>
      )}
      <FormFoot
        problem={save.error?.message ?? remove.error?.message}
        isBusy={save.isPending}
        onLeave={onDone}
        onDelete={stored && (() => remove.mutate(stored.id))}
      />
    </form>
  );
}
