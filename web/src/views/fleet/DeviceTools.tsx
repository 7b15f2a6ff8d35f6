import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { Link, useNavigate } from "react-router";
import { client, got, type Schemas } from "../../api/client";
import { sitesQuery } from "../../api/queries";
import { credentialsQuery, pollingLoadQuery, profilesQuery } from "../../api/setupQueries";
import { useMay } from "../../app/session";
import { Field, Labelled } from "../../components/Field";
import { FormFoot } from "../../components/FormFoot";
import { moment } from "../../components/format";
import { Problem } from "../../components/Problem";
import { pieces, tagsOf, tagText } from "../setup/words";
import { LabelSources } from "./LabelSources";
import { PollNow } from "./PollNow";
import { RestartDevice } from "./RestartDevice";
import { useTrail } from "./trail";

type Device = Schemas["DeviceOut"];
type Act = "retire" | "restore" | "delete";
type Open = "poll now" | "port labels" | "restart" | "change" | Act;

const WHAT: Record<Act, { name: string; words: string }> = {
  retire: {
    name: "Retire it",
    words: "It is no longer polled or listed, and its alarms are cleared. Its history is kept, and it can be restored.",
  },
  restore: { name: "Restore", words: "Polling starts again now. The time in between remains a gap with its reason." },
  delete: {
    name: "Delete permanently",
    words: "Its ports, readings and log entries are deleted and cannot be recovered. Its alarms stay in the history.",
  },
};

/** What can be done to a device: change it, retire it, and once retired restore or delete it. */
export function DeviceTools({ device }: { device: Device }) {
  const [open, setOpen] = useState<Open | null>(null);
  const looks: Open[] = device.way === "snmp" ? ["poll now", "port labels", "restart"] : ["poll now"];
  const may = useMay();
  const acts = (device.retired_at ? ["change", "restore", "delete"] : [...looks, "change", "retire"]).filter(
    (act): act is Open => may(act === "poll now" ? "operator" : "engineer", act === "restart"),
  );
  const close = () => setOpen(null);
  return (
    <div className="mb-2">
      {device.retired_at && (
        <p className="font-medium">
          Retired since {moment(new Date(device.retired_at))}: not polled, its history is kept.
        </p>
      )}
      <p className="flex gap-3">
        {acts.map((act) => (
          <button
            key={act}
            type="button"
            className={`inline-block first-letter:uppercase ${open === act ? "marked" : "underline"}`}
            aria-expanded={open === act}
            onClick={() => setOpen(open === act ? null : act)}
          >
            {act}
          </button>
        ))}
        {!device.retired_at && may("operator", true) && (
          <Link className="underline" to={`/alarms?show=maintenance&device=${device.row.id}`}>
            Plan maintenance
          </Link>
        )}
      </p>
      {open === "change" && <ChangeForm device={device} onDone={close} />}
      {open === "poll now" && <PollNow device={device.row.id} />}
      {open === "restart" && <RestartDevice device={device.row.id} onDone={close} />}
      {open === "port labels" && <LabelSources device={device} onDone={close} />}
      {(open === "retire" || open === "restore" || open === "delete") && (
        <Confirm device={device} act={open} onDone={close} />
      )}
    </div>
  );
}

function Confirm({ device, act, onDone }: { device: Device; act: Act; onDone: () => void }) {
  const queries = useQueryClient();
  const navigate = useNavigate();
  const trail = useTrail();
  const run = useMutation({
    mutationFn: async () => {
      const params = { params: { path: { device: device.row.id } } };
      if (act === "delete") await got(client.DELETE("/api/v1/devices/{device}", params));
      else if (act === "retire") await got(client.POST("/api/v1/devices/{device}/retire", params));
      else await got(client.POST("/api/v1/devices/{device}/restore", params));
    },
    onSuccess: () => {
      onDone();
      if (act === "delete") navigate(trail.list());
      void queries.invalidateQueries();
    },
  });
  return (
    <div className="my-2 max-w-[560px] border-l-2 border-ink pl-3">
      <p>{WHAT[act].words}</p>
      <p role="alert" className="text-critical">
        {run.error?.message}
      </p>
      <p className="flex gap-2 pt-1">
        <button type="button" className="button" disabled={run.isPending} onClick={() => run.mutate()}>
          {WHAT[act].name}
        </button>
        <button type="button" className="button" onClick={onDone}>
          Cancel
        </button>
      </p>
    </div>
  );
}

/** What polling a device costs, before that is saved. */
export function costWords(load: Schemas["PollingLoad"] | undefined, requests: number, interval: number): string {
  if (!requests || !interval) return "";
  const perSecond = requests / interval;
  const words = `${perSecond < 1 ? perSecond.toPrecision(2) : perSecond.toFixed(1)} requests/s`;
  if (!load?.ms_per_request) return words;
  const share = (rate: number) => `${((rate * (load.ms_per_request as number)) / 10).toPrecision(2)} %`;
  return `${words}, ${share(perSecond)} of the collector (all: ${share(load.requests_per_s)})`;
}

/** What people say of a device. The second of two who change it at once is told, and keeps what was typed. */
function ChangeForm({ device, onDone }: { device: Device; onDone: () => void }) {
  const { row } = device;
  const queries = useQueryClient();
  // Who is limited to a part of the network chooses no credential: the names of all of them are not theirs to see.
  const whole = useMay()("engineer", true);
  const { data: credentials, error: noCredentials } = useQuery({ ...credentialsQuery, enabled: whole });
  const { data: sites } = useQuery(sitesQuery);
  const { data: load } = useQuery(pollingLoadQuery);
  const { data: profiles, error: noProfiles } = useQuery(profilesQuery);
  const [interval, setInterval] = useState(row.interval_s);
  const save = useMutation({
    mutationFn: (form: FormData) => {
      const word = (name: string) => String(form.get(name) ?? "");
      const own = Object.fromEntries(device.own_fields.map(({ name }) => [name, word(`own ${name}`)]));
      const body = {
        edition: device.edition,
        name: word("name"),
        address: word("address"),
        ...(device.way === "icmp" ? {} : { port: Number(word("port")) }),
        site: word("site"),
        interval_s: Number(word("interval")),
        groups: pieces(word("groups")),
        hangs_on: pieces(word("hangs_on")),
        tags: tagsOf(word("tags")),
        own,
        enabled: form.get("enabled") === "on",
        ...(device.way === "snmp"
          ? {
              ...(whole ? { credential: Number(word("credential")) } : {}),
              profile: Number(word("profile")),
              label_template: word("template"),
            }
          : {}),
      };
      return got(client.PATCH("/api/v1/devices/{device}", { params: { path: { device: row.id } }, body }));
    },
    onSuccess: () => {
      void queries.invalidateQueries();
      onDone();
    },
  });
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    save.mutate(new FormData(event.currentTarget));
  };
  // Saved before its choices are there, the form would tell that none was made.
  if ((whole && !credentials) || !profiles) return <Problem error={noCredentials ?? noProfiles} />;
  return (
    <form onSubmit={submit} className="my-2 grid max-w-[640px] grid-cols-2 gap-x-3 gap-y-2 border-l-2 border-ink pl-3">
      <Field name="name" label="Name" required maxLength={120} defaultValue={row.name} />
      <Field name="site" label="Site" list="all-sites" defaultValue={row.site ?? ""} />
      <Field name="address" label="Address" required defaultValue={row.address} />
      {device.way !== "icmp" && (
        <Field
          name="port"
          label={device.way === "tcp" ? "TCP port" : "UDP port"}
          type="number"
          min={1}
          max={65535}
          required
          defaultValue={row.port}
        />
      )}
      {device.way === "snmp" && credentials && (
        <Labelled label="Credential">
          <select name="credential" className="field" defaultValue={device.credential_id ?? ""}>
            {credentials.rows.map((each) => (
              <option key={each.id} value={each.id}>
                {each.name}
              </option>
            ))}
          </select>
        </Labelled>
      )}
      {device.way === "snmp" && (
        <>
          <Labelled label="Profile" hint={device.profile_by}>
            <select name="profile" className="field" defaultValue={device.profile_by ? 0 : (device.profile_id ?? 0)}>
              <option value={0}>{device.profile_by ? `recognised: ${device.profile}` : "let it be recognised"}</option>
              {profiles.rows.map((each) => (
                <option key={each.id} value={each.id}>
                  {each.name}
                </option>
              ))}
            </select>
          </Labelled>
          <Field
            name="template"
            label="Port labels"
            hint="empty: by rule or profile"
            placeholder="{alias|name}"
            defaultValue={device.label_template}
          />
        </>
      )}
      <Field
        name="interval"
        label="Interval (s)"
        hint={costWords(load, device.requests ?? 0, interval)}
        type="number"
        min={10}
        max={86400}
        required
        value={interval}
        onChange={(event) => setInterval(Number(event.target.value))}
      />
      <Field name="groups" label="Groups" hint="separated by semicolons" defaultValue={device.groups.join("; ")} />
      <Field
        name="hangs_on"
        label="Hangs on"
        hint="devices by which it is reached, separated by semicolons"
        defaultValue={device.hangs_on.join("; ")}
      />
      <Field name="tags" label="Tags" hint="key=value; key=value" defaultValue={tagText(device.tags)} />
      {device.own_fields.map((field) => (
        <Field
          key={field.name}
          name={`own ${field.name}`}
          label={field.name}
          hint={field.kind === "choice" ? field.choices.join(", ") : field.kind}
          type={field.kind === "date" ? "date" : "text"}
          defaultValue={device.own[field.name] ?? ""}
        />
      ))}
      <label className="col-span-2 flex gap-2">
        <input name="enabled" type="checkbox" defaultChecked={row.enabled} /> polled
      </label>
      <datalist id="all-sites">
        {sites?.map((each) => each.name && <option key={each.name} value={each.name} />)}
      </datalist>
      <FormFoot problem={save.error?.message} isBusy={save.isPending} onLeave={onDone} />
    </form>
  );
}
