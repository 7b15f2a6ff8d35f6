import { useState } from "react";
import { type AddressList, addressListsQuery, deleteAddressList, keepAddressList } from "../../api/trafficQueries";
import { Field, Labelled } from "../../components/Field";
import { FormFoot } from "../../components/FormFoot";
import { useKeeping } from "../setup/useKeeping";

const BLANK = { name: "", is_deny: false, within: "", listed: "", enabled: true };

/** A list of known addresses, or of those that must not be seen. */
export function AddressListForm({ list, onDone }: { list: AddressList | null; onDone: () => void }) {
  const [draft, setDraft] = useState({ ...BLANK, ...list });
  const change = (changed: Partial<typeof draft>) => setDraft({ ...draft, ...changed });
  const { submit, foot } = useKeeping({
    listed: addressListsQuery.queryKey.slice(0, 1),
    save: () =>
      keepAddressList(list?.id ?? null, {
        name: draft.name,
        is_deny: draft.is_deny,
        within: draft.within,
        listed: draft.listed,
        enabled: draft.enabled,
      }),
    remove: list ? () => deleteAddressList(list.id) : undefined,
    onDone,
  });
  return (
    <form onSubmit={submit} className="mt-1 grid max-w-[640px] grid-cols-2 gap-2 rounded border border-rule p-3">
      <Field
        label="Name"
        required
        maxLength={120}
        value={draft.name}
        onChange={(e) => change({ name: e.target.value })}
      />
      <Labelled label="What it is">
        <select
          className="field"
          value={draft.is_deny ? "deny" : "allow"}
          onChange={(event) => change({ is_deny: event.target.value === "deny" })}
        >
          <option value="allow">known addresses: others are strangers</option>
          <option value="deny">addresses that must not be seen</option>
        </select>
      </Labelled>
      {!draft.is_deny && (
        <Labelled label="Looked at" hint="only addresses within these can be strangers">
          <textarea
            className="field h-28"
            placeholder="10.0.0.0/8"
            value={draft.within}
            onChange={(event) => change({ within: event.target.value })}
          />
        </Labelled>
      )}
      <Labelled
        label={draft.is_deny ? "Must not be seen" : "Known"}
        hint="one a line: 10.1.0.0/16, 10.1.2.3-40, 10.1.*; behind # a remark"
        wide={draft.is_deny}
      >
        <textarea
          className="field h-28"
          placeholder="10.1.*  # Depot"
          value={draft.listed}
          onChange={(event) => change({ listed: event.target.value })}
        />
      </Labelled>
      <label className="col-span-2 flex items-center gap-2">
        <input
          type="checkbox"
          checked={draft.enabled}
          onChange={(event) => change({ enabled: event.target.checked })}
        />
        Look for strangers
      </label>
      <FormFoot {...foot} />
    </form>
  );
}
