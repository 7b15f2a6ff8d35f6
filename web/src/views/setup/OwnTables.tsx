import type { Schemas } from "../../api/client";
import { Field, Labelled } from "../../components/Field";

type Neighbours = Schemas["NeighbourTableIO"];
type Wireless = Schemas["WirelessTablesIO"];
type Restart = Schemas["RestartIO"];

/** A maker's own table of neighbours, for devices that know nothing of LLDP. */
export function OwnNeighbours({ table, onChange }: { table: Neighbours; onChange: (table: Neighbours) => void }) {
  const set = (name: "name" | "port" | "address") => (event: { target: { value: string } }) =>
    onChange({ ...table, [name]: event.target.value });
  return (
    <details className="col-span-2" open={Boolean(table.name)}>
      <summary className="min-h-6 cursor-pointer">The maker’s own table of neighbours</summary>
      <div className="mt-1 grid grid-cols-2 gap-x-3 gap-y-2">
        <Field label="Column of names" hint="OID" value={table.name} onChange={set("name")} />
        <Field label="Column of ports" hint="OID" value={table.port} onChange={set("port")} />
        <Field label="Column of addresses" hint="may be empty" value={table.address} onChange={set("address")} />
        <Field
          label="ifIndex in the index"
          hint="which number of it, from 1"
          type="number"
          min={1}
          max={16}
          value={table.if_index_at}
          onChange={(event) => onChange({ ...table, if_index_at: Number(event.target.value) || 1 })}
        />
      </div>
    </details>
  );
}

export const NO_WIRELESS: Wireless = {
  point_name: "",
  point_mac: "",
  point_address: "",
  point_model: "",
  point_state: "",
  point_up: 1,
  client_network: "",
  client_point: "",
  client_mac: "",
  client_address: "",
  client_signal: "",
};
const POINT_COLUMNS: [name: keyof Wireless, label: string, hint: string][] = [
  ["point_name", "Access points: names", "OID"],
  ["point_mac", "MAC addresses", "may be empty"],
  ["point_address", "Addresses", "may be empty"],
  ["point_model", "Models", "may be empty"],
  ["point_state", "States", "may be empty"],
];
const CLIENT_COLUMNS: [name: keyof Wireless, label: string, hint: string][] = [
  ["client_network", "Clients: networks (SSID)", "OID"],
  ["client_point", "Access points", "empty: the index begins with it"],
  ["client_mac", "MAC addresses", "empty: the index ends with it"],
  ["client_address", "Addresses", "may be empty"],
  ["client_signal", "Signals (dBm)", "may be empty"],
];

/** The maker's own tables of access points and wireless clients. An access point of its own has the second one alone. */
export function OwnWireless({ tables, onChange }: { tables: Wireless; onChange: (tables: Wireless) => void }) {
  const column = ([name, label, hint]: (typeof POINT_COLUMNS)[0]) => (
    <Field
      key={name}
      label={label}
      hint={hint}
      value={tables[name]}
      onChange={(event) => onChange({ ...tables, [name]: event.target.value })}
    />
  );
  return (
    <details className="col-span-2" open={Boolean(tables.point_name || tables.client_network)}>
      <summary className="min-h-6 cursor-pointer">The maker’s own tables of access points and wireless clients</summary>
      <div className="mt-1 grid grid-cols-2 gap-x-3 gap-y-2">
        {POINT_COLUMNS.map(column)}
        <Field
          label="State that means joined"
          type="number"
          value={tables.point_up}
          onChange={(event) => onChange({ ...tables, point_up: Number(event.target.value) })}
        />
        {CLIENT_COLUMNS.map(column)}
      </div>
    </details>
  );
}

/** Traps by which devices of this kind say that they lose their power. */
export function LastGasps({ oids, onChange }: { oids: string[]; onChange: (oids: string[]) => void }) {
  return (
    <Labelled label="Traps that say that the power is gone" hint="one OID a line" wide>
      <textarea
        className="field figures"
        rows={Math.max(1, oids.length)}
        spellCheck={false}
        value={oids.join("\n")}
        onChange={(event) => onChange(event.target.value.split("\n"))}
      />
    </Labelled>
  );
}

/** What is set to restart a device of this kind; without it there is no restart. */
export function OwnRestart({ restart, onChange }: { restart: Restart; onChange: (restart: Restart) => void }) {
  return (
    <details className="col-span-2" open={Boolean(restart.oid)}>
      <summary className="min-h-6 cursor-pointer">How it is restarted</summary>
      <div className="mt-1 grid grid-cols-2 gap-x-3 gap-y-2">
        <Field
          label="Object that is set"
          hint="OID with its instance"
          value={restart.oid}
          onChange={(event) => onChange({ ...restart, oid: event.target.value })}
        />
        <Field
          label="Value"
          type="number"
          value={restart.value}
          onChange={(event) => onChange({ ...restart, value: Number(event.target.value) })}
        />
      </div>
    </details>
  );
}
