import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { type FormEvent, type ReactNode, useState } from "react";
import { useNavigate } from "react-router";
import { client, got } from "../../api/client";

const AUTH = ["", "sha1", "sha224", "sha256", "sha384", "sha512", "md5"];

/** Adding one device: where it is, and how it is spoken to. */
export function AddDevice() {
  const [open, setOpen] = useState(false);
  const [kind, setKind] = useState<"v2c" | "v3">("v2c");
  const queries = useQueryClient();
  const navigate = useNavigate();
  const add = useMutation({
    mutationFn: (form: FormData) => {
      const word = (name: string) => String(form.get(name) ?? "");
      const names = kind === "v2c" ? ["community"] : ["user", "auth", "auth_password", "priv", "priv_password"];
      const secret = Object.fromEntries(names.map((name) => [name, word(name)]));
      const body = {
        address: word("address"),
        port: Number(word("port")),
        name: word("name"),
        site: word("site"),
        kind,
        secret,
        interval_s: 60,
      };
      return got(client.POST("/api/v1/devices", { body }));
    },
    onSuccess: (device) => {
      setOpen(false);
      void queries.invalidateQueries();
      navigate(`/fleet/device/${device.id}`);
    },
  });
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    add.mutate(new FormData(event.currentTarget));
  };
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger className="button">Add a device</Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-10 bg-ink/20" />
        <Dialog.Content
          aria-describedby={undefined}
          className="fixed top-20 left-1/2 z-20 w-[430px] max-w-[94vw] -translate-x-1/2 border border-ink bg-sheet p-4 shadow-lg"
        >
          <Dialog.Title className="heading">Add a device</Dialog.Title>
          <form onSubmit={submit} className="grid grid-cols-[1fr_96px] gap-x-3 gap-y-2 pt-1">
            <Field name="address" label="Address" hint="a name, IPv4 or IPv6" required />
            <Field name="port" label="UDP port" defaultValue="161" type="number" min={1} max={65535} required />
            <Field name="name" label="Name" hint="empty: what it calls itself" />
            <Field name="site" label="Site" />
            <fieldset className="col-span-2 flex gap-4 pt-1">
              <legend className="sr-only">SNMP version</legend>
              {(["v2c", "v3"] as const).map((each) => (
                <label key={each} className="flex gap-1.5">
                  <input type="radio" name="kind" checked={kind === each} onChange={() => setKind(each)} />
                  SNMP {each}
                </label>
              ))}
            </fieldset>
            {kind === "v2c" ? (
              <Field
                name="community"
                label="Community"
                hint="stored encrypted, never shown again"
                required
                wide
                type="password"
              />
            ) : (
              <>
                <Field name="user" label="User" required wide />
                <Field
                  name="auth_password"
                  label="Authentication password"
                  hint="8 characters at least"
                  type="password"
                />
                <Choice name="auth" label="by" options={AUTH} />
                <Field name="priv_password" label="Privacy password" type="password" />
                <Choice name="priv" label="by" options={["", "aes128"]} />
              </>
            )}
            <p role="alert" className="col-span-2 min-h-[18px] text-critical">
              {add.error?.message}
            </p>
            <button type="submit" className="button justify-self-start" disabled={add.isPending}>
              Add
            </button>
          </form>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

function Labelled({
  label,
  hint,
  wide,
  children,
}: {
  label: string;
  hint?: string;
  wide?: boolean;
  children: ReactNode;
}) {
  return (
    // biome-ignore lint/a11y/noLabelWithoutControl: the control is the child
    <label className={`grid content-start gap-1 ${wide ? "col-span-2" : ""}`}>
      <span>
        {label} {hint && <span className="text-[11.5px] text-ink2">{hint}</span>}
      </span>
      {children}
    </label>
  );
}

type FieldProps = {
  name: string;
  label: string;
  hint?: string;
  wide?: boolean;
} & React.InputHTMLAttributes<HTMLInputElement>;

function Field({ label, hint, wide, ...input }: FieldProps) {
  return (
    <Labelled label={label} {...(hint ? { hint } : {})} {...(wide ? { wide } : {})}>
      <input className="field min-w-0" autoComplete="off" {...input} />
    </Labelled>
  );
}

function Choice({ name, label, options }: { name: string; label: string; options: string[] }) {
  return (
    <Labelled label={label}>
      <select name={name} className="field">
        {options.map((option) => (
          <option key={option} value={option}>
            {option || "none"}
          </option>
        ))}
      </select>
    </Labelled>
  );
}
