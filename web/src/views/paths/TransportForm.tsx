import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { deleteTransport, keepTransport, type Transport } from "../../api/pathQueries";
import { sitesQuery } from "../../api/queries";
import { Choice, Field } from "../../components/Field";
import { FormFoot } from "../../components/FormFoot";
import { useKeeping } from "../setup/useKeeping";

const megabits = (bps: number | null | undefined) => (bps ? String(bps / 1e6) : "");
const bits = (typed: string) => (typed.trim() ? Math.round(Number(typed) * 1e6) : null);

/** A line of a provider. */
export function TransportForm({ row, onDone }: { row: Transport | null; onDone: () => void }) {
  const { data: sites } = useQuery(sitesQuery);
  const [draft, setDraft] = useState({
    name: row?.name ?? "",
    provider: row?.provider ?? "",
    site: row?.site ?? "",
    down: megabits(row?.down_bps),
    up: megabits(row?.up_bps),
    price: row?.price ? String(row.price) : "",
    currency: row?.currency ?? "",
  });
  const { submit, foot } = useKeeping({
    listed: ["paths"],
    save: () => {
      const { down, up, price, ...same } = draft;
      return keepTransport(row?.id ?? null, {
        ...same,
        down_bps: bits(down),
        up_bps: bits(up),
        price: price.trim() ? Number(price) : null,
      });
    },
    remove: row ? () => deleteTransport(row.id) : undefined,
    onDone,
  });
  const text = (name: keyof typeof draft) => ({
    value: draft[name],
    onChange: (event: { target: { value: string } }) => setDraft({ ...draft, [name]: event.target.value }),
  });
  return (
    <form onSubmit={submit} className="grid grid-cols-2 gap-2">
      <h2 className="heading col-span-2">{row ? `Change ${row.name}` : "New transport"}</h2>
      <Field wide label="Name" required maxLength={120} placeholder="Hexwater Transport A" {...text("name")} />
      <Field label="Provider" required maxLength={120} {...text("provider")} />
      <Choice
        label="Site"
        options={["", ...(sites ?? []).map(({ name }) => name)]}
        value={draft.site}
        onChange={(event) => setDraft({ ...draft, site: event.target.value })}
      />
      <Field label="Down" hint="Mb/s, contracted" inputMode="decimal" {...text("down")} />
      <Field label="Up" hint="Mb/s, contracted" inputMode="decimal" {...text("up")} />
      <Field label="Price" hint="a month" inputMode="decimal" {...text("price")} />
      <Field label="Currency" hint="EUR" maxLength={3} {...text("currency")} />
      <FormFoot {...foot} />
    </form>
  );
}
