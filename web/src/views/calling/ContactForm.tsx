import { useState } from "react";
import { client, got, type Schemas } from "../../api/client";
import { Field, Labelled } from "../../components/Field";
import { FormFoot } from "../../components/FormFoot";
import { SEVERITIES } from "../../components/severities";
import { useKeeping } from "../setup/useKeeping";

type Contact = Schemas["ContactOut"];
type Channel = Schemas["ChannelOut"];
type Address = { key: number; id: number | null; channel: string; target: Record<string, string>; enabled: boolean };
type Props = { stored?: Contact; channels: Channel[]; onDone: () => void };

/** The time zone of whoever looks; a good guess for a new contact. */
export const ownZone = () => Intl.DateTimeFormat().resolvedOptions().timeZone || "UTC";

export function ContactForm({ stored, channels, onDone }: Props) {
  const [contact, setContact] = useState({
    name: stored?.name ?? "",
    zone: stored?.zone ?? ownZone(),
    quiet: stored?.quiet ?? "",
    quiet_from: stored?.quiet_from ?? 5,
  });
  const [addresses, setAddresses] = useState<Address[]>(
    stored?.addresses.map((each, key) => ({ ...each, key })) ?? [
      { key: 0, id: null, channel: "mail", target: {}, enabled: true },
    ],
  );
  const { submit, foot } = useKeeping({
    save: () => {
      const body = { ...contact, addresses: addresses.map(({ key: _, ...address }) => address) };
      if (!stored) return got(client.POST("/api/v1/contacts", { body }));
      return got(
        client.PUT("/api/v1/contacts/{contact}", {
          params: { path: { contact: stored.id } },
          body: { ...body, edition: stored.edition },
        }),
      );
    },
    remove:
      stored && (() => got(client.DELETE("/api/v1/contacts/{contact}", { params: { path: { contact: stored.id } } }))),
    onDone,
  });
  const change = (key: number, changed: Partial<Address>) =>
    setAddresses(addresses.map((each) => (each.key === key ? { ...each, ...changed } : each)));
  const add = () =>
    setAddresses([
      ...addresses,
      {
        key: Math.max(-1, ...addresses.map((each) => each.key)) + 1,
        id: null,
        channel: "mail",
        target: {},
        enabled: true,
      },
    ]);
  return (
    <form onSubmit={submit} className="grid grid-cols-2 gap-x-3 gap-y-2">
      <h2 className="heading col-span-2">{stored ? `Change ${stored.name}` : "New contact"}</h2>
      <Field
        label="Name"
        required
        wide
        maxLength={80}
        value={contact.name}
        onChange={(event) => setContact({ ...contact, name: event.target.value })}
      />
      {addresses.map((address) => (
        <AddressFields
          key={address.key}
          address={address}
          channels={channels}
          change={(changed) => change(address.key, changed)}
          remove={() => setAddresses(addresses.filter((each) => each.key !== address.key))}
        />
      ))}
      <button type="button" className="col-span-2 min-h-6 justify-self-start underline" onClick={add}>
        Add an address
      </button>
      <Field
        label="Quiet hours"
        hint="like 22:00-06:30, Sat-Sun"
        placeholder="none"
        value={contact.quiet}
        onChange={(event) => setContact({ ...contact, quiet: event.target.value })}
      />
      <Labelled label="In them send at once from" hint="the rest waits">
        <select
          className="field"
          value={contact.quiet_from}
          onChange={(event) => setContact({ ...contact, quiet_from: Number(event.target.value) })}
        >
          {SEVERITIES.slice(1).map(({ word }, place) => (
            <option key={word} value={place + 1}>
              {word}
            </option>
          ))}
        </select>
      </Labelled>
      <Field
        label="Time zone"
        hint="of the quiet hours"
        wide
        required
        value={contact.zone}
        onChange={(event) => setContact({ ...contact, zone: event.target.value })}
      />
      <FormFoot {...foot} />
    </form>
  );
}

type AddressProps = {
  address: Address;
  channels: Channel[];
  change: (changed: Partial<Address>) => void;
  remove: () => void;
};

/** One address: its channel, and what that channel needs to know. */
function AddressFields({ address, channels, change, remove }: AddressProps) {
  const channel = channels.find(({ name }) => name === address.channel);
  const isKept = address.id !== null;
  return (
    <fieldset className="col-span-2 grid grid-cols-2 gap-x-3 gap-y-1.5 border-t border-dotted border-rule pt-2">
      <Labelled label="Channel">
        <select
          className="field min-w-0"
          value={address.channel}
          onChange={(event) => change({ channel: event.target.value, target: {} })}
        >
          {channels.map(({ name, words }) => (
            <option key={name} value={name}>
              {words}
            </option>
          ))}
        </select>
      </Labelled>
      <div className="flex items-end gap-3 pb-1">
        <label className="flex gap-1.5">
          <input
            type="checkbox"
            checked={address.enabled}
            onChange={(event) => change({ enabled: event.target.checked })}
          />
          In use
        </label>
        <button type="button" className="ml-auto min-h-6 text-ink2 underline" onClick={remove}>
          Remove
        </button>
      </div>
      {channel?.fields.map((field) => (
        <Field
          key={field.name}
          wide={channel.fields.length === 1}
          label={field.words}
          hint={isKept && field.is_secret ? "empty: stays as it is" : field.hint}
          type={field.is_secret && field.name !== "url" ? "password" : "text"}
          required={field.is_required && !(isKept && field.is_secret)}
          spellCheck={false}
          value={address.target[field.name] ?? ""}
          onChange={(event) => change({ target: { ...address.target, [field.name]: event.target.value } })}
        />
      ))}
      {channel?.for_administrators && (
        <p className="col-span-2 text-small text-ink2">
          Only administrators set this up. It is run without a shell, with the message as JSON on its standard input.
        </p>
      )}
    </fieldset>
  );
}
