import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import {
  type Controller,
  type ControllerProfile,
  controllerKindsQuery,
  deleteController,
  keepController,
} from "../../api/controllerQueries";
import { credentialsQuery } from "../../api/setupQueries";
import { Check, Field, Labelled } from "../../components/Field";
import { FormFoot } from "../../components/FormFoot";
import { useKeeping } from "../setup/useKeeping";
import { SignInSecret } from "./SignInSecret";

type Props = { row: Controller | null; profiles: ControllerProfile[]; onDone: () => void };
const LOCAL = "10.0.0.0/8, 172.16.0.0/12, 192.168.0.0/16, fc00::/7";

/** Where a controller is, how one signs in, and what becomes of its members. */
export function ControllerForm({ row, profiles, onDone }: Props) {
  const { data: kinds } = useQuery(controllerKindsQuery);
  const { data: stored } = useQuery(credentialsQuery);
  const [draft, setDraft] = useState({
    name: row?.name ?? "",
    base: row?.base ?? "https://",
    profile: row?.profile ?? profiles[0]?.id ?? 0,
    authority: row?.authority ?? "",
    credential: row?.credential ?? null,
    allowed: row?.allowed ?? LOCAL,
    adds: row?.adds ?? false,
    port: row?.port ?? 161,
    every_s: row?.every_s ?? 60,
    enabled: row?.enabled ?? true,
  });
  const [secret, setSecret] = useState<Record<string, string>>({});
  const typed = Object.values(secret).some(Boolean);
  const { submit, foot } = useKeeping({
    listed: ["controllers"],
    save: () => keepController(row?.id ?? null, { ...draft, secret: typed ? secret : null }),
    remove: row ? () => deleteController(row.id) : undefined,
    onDone,
  });
  const change = (changed: Partial<typeof draft>) => setDraft({ ...draft, ...changed });
  const sign = profiles.find(({ id }) => id === draft.profile)?.sign_in;
  const way = kinds?.ways.find(({ name }) => name === sign?.way);
  return (
    <form onSubmit={submit} className="grid grid-cols-2 gap-2" aria-label="Controller">
      <h2 className="heading col-span-2">{row ? `Change ${row.name}` : "New controller"}</h2>
      <Field
        wide
        label="Name"
        required
        maxLength={120}
        value={draft.name}
        onChange={(event) => change({ name: event.target.value })}
      />
      <Field
        wide
        label="Address"
        hint="https://192.0.2.7:8443"
        required
        maxLength={200}
        value={draft.base}
        onChange={(event) => change({ base: event.target.value })}
      />
      <Labelled label="Profile" wide>
        <select
          className="field"
          value={draft.profile}
          onChange={(event) => change({ profile: Number(event.target.value) })}
        >
          {profiles.map(({ id, name }) => (
            <option key={id} value={id}>
              {name}
            </option>
          ))}
        </select>
      </Labelled>
      {way && <SignInSecret way={way} isKept={row !== null} secret={secret} onChange={setSecret} />}
      <Labelled label="Trusted by" hint="PEM; empty: whom this machine trusts" wide>
        <textarea
          className="field figures"
          rows={draft.authority ? 4 : 1}
          spellCheck={false}
          value={draft.authority}
          onChange={(event) => change({ authority: event.target.value })}
        />
      </Labelled>
      <Field
        wide
        label="Addresses that members may have"
        required
        value={draft.allowed}
        onChange={(event) => change({ allowed: event.target.value })}
      />
      <Labelled label="Members are polled by" wide>
        <select
          className="field"
          value={draft.credential ?? ""}
          onChange={(event) => change({ credential: event.target.value ? Number(event.target.value) : null })}
        >
          <option value="">no credential: they are only shown</option>
          {stored?.rows.map(({ id, name }) => (
            <option key={id} value={id}>
              {name}
            </option>
          ))}
        </select>
      </Labelled>
      <Field
        label="UDP port"
        hint="of SNMP"
        type="number"
        min={1}
        max={65535}
        value={draft.port}
        onChange={(event) => change({ port: Number(event.target.value) })}
      />
      <Field
        label="Asked every"
        hint="s"
        type="number"
        min={15}
        max={86400}
        value={draft.every_s}
        onChange={(event) => change({ every_s: Number(event.target.value) })}
      />
      <Check words="Members become devices by themselves" is={draft.adds} onChange={(adds) => change({ adds })} />
      <Check words="It is asked" is={draft.enabled} onChange={(enabled) => change({ enabled })} />
      <FormFoot {...foot} />
    </form>
  );
}
