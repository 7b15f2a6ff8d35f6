import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useEffect, useRef, useState } from "react";
import { useNavigate, useSearchParams } from "react-router";
import { client, got } from "../../api/client";
import { readLines } from "../../api/lines";
import { sitesQuery } from "../../api/queries";
import { credentialsQuery } from "../../api/setupQueries";
import { Field } from "../../components/Field";
import { type Kind, SecretFields, secretOf } from "./SecretFields";
import { type Step, Steps } from "./Steps";

type Outcome = {
  ways: ("snmp" | "icmp" | "tcp")[];
  credential: number | null;
  credential_name: string;
  name: string;
};
type Line = { step?: Step; outcome?: Outcome; known?: string };
type Tried = { steps: Step[]; outcome?: Outcome; known?: string; running: boolean; problem?: string };

const BY = { snmp: "SNMP", icmp: "ICMP echo", tcp: "its TCP port" };

/** One device: tried out step by step, then added with one key. */
export function AddOne() {
  // A neighbour that is seen and not in the inventory leads here.
  const [search] = useSearchParams();
  const { data: stored } = useQuery(credentialsQuery);
  const { data: sites } = useQuery(sitesQuery);
  const [own, setOwn] = useState<boolean | null>(null);
  const [kind, setKind] = useState<Kind>("v2c");
  const [tried, setTried] = useState<Tried | null>(null);
  const form = useRef<HTMLFormElement>(null);
  const abort = useRef<AbortController>(null);
  useEffect(() => () => abort.current?.abort(), []);
  if (!stored) return null;
  const typed = own ?? stored.rows.length === 0;

  const request = () => {
    const data = new FormData(form.current as HTMLFormElement);
    const word = (name: string) => String(data.get(name) ?? "");
    return {
      address: word("address"),
      port: Number(word("port")),
      tcp_port: word("tcp_port") ? Number(word("tcp_port")) : null,
      name: word("name"),
      site: word("site"),
      interval_s: Number(word("interval")),
      ...(typed ? { kind, secret: secretOf(data, kind) } : {}),
    };
  };
  const attempt = async (event: FormEvent) => {
    event.preventDefault();
    abort.current?.abort();
    const mine = new AbortController();
    abort.current = mine;
    setTried({ steps: [], running: true });
    const add = (line: Line) =>
      setTried((before) => ({
        running: true,
        ...before,
        ...line,
        steps: [...(before?.steps ?? []), ...(line.step ? [line.step] : [])],
      }));
    try {
      await readLines<Line>("devices/try", { ...request(), ...(typed ? { credentials: [] } : {}) }, add, mine.signal);
      setTried((before) => before && { ...before, running: false });
    } catch (error) {
      if (!mine.signal.aborted) setTried({ steps: [], running: false, problem: (error as Error).message });
    }
  };
  return (
    <div className="grid grid-cols-[330px_minmax(0,1fr)] gap-8 max-lg:grid-cols-1">
      <form
        ref={form}
        onSubmit={attempt}
        onChange={() => tried?.running || setTried(null)}
        className="grid grid-cols-[1fr_110px] content-start gap-x-3 gap-y-2"
      >
        <h1 className="col-span-2 text-title font-semibold tracking-tight">Add a device</h1>
        <Field
          name="address"
          label="Address"
          hint="a name, IPv4 or IPv6"
          defaultValue={search.get("address") ?? ""}
          required
          autoFocus
        />
        <Field name="port" label="UDP port" defaultValue="161" type="number" min={1} max={65535} required />
        <Field name="name" label="Name" hint="empty: sysName" />
        <Field name="interval" label="Interval (s)" defaultValue="60" type="number" min={10} max={86400} required />
        <Field name="site" label="Site" list="sites" />
        <Field name="tcp_port" label="TCP port" hint="try too" type="number" min={1} max={65535} />
        <datalist id="sites">
          {sites?.map((site) => site.name && <option key={site.name} value={site.name} />)}
        </datalist>
        <fieldset className="col-span-2 grid gap-2.5 pt-1">
          <legend className="sr-only">Credentials</legend>
          <label className="flex gap-1.5">
            <input
              type="radio"
              name="which"
              checked={!typed}
              disabled={stored.rows.length === 0}
              onChange={() => setOwn(false)}
            />
            <span>
              Try the stored credentials of the site
              <span className="text-ink2">
                {stored.rows.length
                  ? `: ${stored.rows.map((row) => row.name).join(", then ")}`
                  : "; there are none yet"}
              </span>
            </span>
          </label>
          <label className="flex gap-1.5">
            <input type="radio" name="which" checked={typed} onChange={() => setOwn(true)} />
            Type one in
          </label>
        </fieldset>
        {typed && <SecretFields kind={kind} onKind={setKind} protocols={stored.protocols} />}
        <div className="col-span-2 flex gap-2 pt-1">
          <button type="submit" className="button">
            Try it
          </button>
          {tried?.running && (
            <button type="button" className="button" onClick={() => abort.current?.abort()}>
              Stop
            </button>
          )}
        </div>
      </form>
      <section aria-label="Result" className="min-w-0">
        <h2 className="heading">Result</h2>
        {tried?.problem && (
          <p role="alert" className="text-critical">
            {tried.problem}
          </p>
        )}
        {!tried && (
          <p className="max-w-[520px] text-ink2">
            Trying sends an echo and each credential to the address, and says here what answered and how. Nothing is
            stored until it is added.
          </p>
        )}
        {tried && <Steps steps={tried.steps} />}
        {tried?.running && <p className="py-1 text-ink2">Waiting for answers …</p>}
        {tried && !tried.running && tried.outcome && (
          <Add request={request} outcome={tried.outcome} known={tried.known ?? ""} typed={typed} />
        )}
      </section>
    </div>
  );
}

type AddProps = {
  request: () => { address: string; port: number; tcp_port: number | null; name: string };
  outcome: Outcome;
  known: string;
  typed: boolean;
};

/** The ways by which it can be watched; the first one has the focus, so that Enter adds. */
function Add({ request, outcome, known, typed }: AddProps) {
  const queries = useQueryClient();
  const navigate = useNavigate();
  const add = useMutation({
    mutationFn: (way: Outcome["ways"][number]) => {
      const { tcp_port, ...rest } = request();
      const body = {
        ...rest,
        way,
        port: way === "tcp" ? (tcp_port ?? 0) : rest.port,
        ...(way === "snmp" && !typed ? { credential: outcome.credential } : {}),
        name: rest.name || outcome.name,
      };
      return got(client.POST("/api/v1/devices", { body }));
    },
    onSuccess: (device) => {
      void queries.invalidateQueries();
      navigate(`/fleet/device/${device.id}`);
    },
  });
  if (known) return <p className="py-2">It is watched already, as {known}.</p>;
  if (outcome.ways.length === 0) {
    return (
      <p className="max-w-[560px] py-2">
        Nothing answered, so there is nothing to watch yet. Check the address, that a firewall lets this machine ask,
        and that the device allows this machine to read it.
      </p>
    );
  }
  return (
    <div className="flex flex-wrap items-baseline gap-2 py-3">
      {outcome.ways.map((way, place) => (
        <button
          key={way}
          type="button"
          className="button"
          // biome-ignore lint/a11y/noAutofocus: the next thing to do after trying is to add
          autoFocus={place === 0}
          disabled={add.isPending}
          onClick={() => add.mutate(way)}
        >
          Add, watched by {BY[way]}
          {way === "snmp" && !typed && ` with ${outcome.credential_name}`}
        </button>
      ))}
      <p role="alert" className="w-full text-critical">
        {add.error?.message}
      </p>
    </div>
  );
}
