import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import {
  type AddressList,
  acceptStrangers,
  addressListsQuery,
  type StrangerRow,
  strangersQuery,
} from "../../api/trafficQueries";
import { useMay } from "../../app/session";
import { counted, moment, text, volume } from "../../components/format";
import { InlineToggles } from "../../components/InlineToggles";
import { Problem } from "../../components/Problem";
import { AddressListForm } from "./AddressListForm";

const SHOWN = [
  ["open", "not accepted"],
  ["accepted", "accepted"],
] as const;

/** Addresses that are not known to a list, and the lists themselves. */
export function Strangers() {
  const mayAccept = useMay()("engineer", true);
  const [shown, setShown] = useState<string>("open");
  const { data: lists } = useQuery(addressListsQuery);
  const { data, error } = useQuery({ ...strangersQuery(shown === "accepted"), refetchInterval: 15_000 });
  return (
    <>
      <div className="flex flex-wrap items-center gap-x-3 py-1 text-small">
        <InlineToggles label="Strangers" value={shown} options={SHOWN} onChoose={setShown} />
        {data && (
          <span className="text-ink2">
            {data.number.toLocaleString("en-GB")} {data.number === 1 ? "address" : "addresses"}
          </span>
        )}
      </div>
      <Problem error={error} />
      {data?.rows.length === 0 && lists && (
        <p className="py-2 text-ink2">
          {lists.length === 0
            ? "There is no list of known addresses yet: make one below, and whoever else is seen is told of."
            : shown === "open"
              ? "Everybody who is seen is known."
              : "Nobody was accepted yet."}
        </p>
      )}
      {data && data.rows.length > 0 && <Table rows={data.rows} mayAccept={mayAccept && shown === "open"} />}
      {data && data.number > data.rows.length && (
        <p className="py-1 text-small text-ink2">
          and {(data.number - data.rows.length).toLocaleString("en-GB")} seen earlier
        </p>
      )}
      <Lists lists={lists ?? []} mayChange={mayAccept} />
    </>
  );
}

const GRID =
  "grid-cols-[minmax(0,1.2fr)_120px_minmax(0,1.2fr)_minmax(0,1.3fr)_76px_120px] max-md:grid-cols-[minmax(0,1fr)_minmax(0,1fr)_90px]";
const WIDE = "max-md:hidden";

function Table({ rows, mayAccept }: { rows: StrangerRow[]; mayAccept: boolean }) {
  const queries = useQueryClient();
  const accept = useMutation({
    mutationFn: (row: StrangerRow) =>
      acceptStrangers(row.list_id, { addresses: [row.address], prefix: "", everybody: false }),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["strangers"] }),
  });
  return (
    <>
      <Problem error={accept.error} />
      <div className={`grid ${GRID} gap-x-2 border-b border-rule text-small text-ink2`}>
        <span>address</span>
        <span className={WIDE}>first seen</span>
        <span>where</span>
        <span className={WIDE}>with whom</span>
        <span className={`text-right ${WIDE}`}>volume</span>
        <span />
      </div>
      <ul className="figures text-small">
        {rows.map((row) => (
          <li key={row.id} className={`grid ${GRID} items-center gap-x-2 border-b border-faint py-[4px]`}>
            <span className="truncate">
              <Link className="font-medium hover:underline" to={`/traffic?address=${row.address}&by=conversation`}>
                {row.address}
              </Link>{" "}
              <span className="text-ink2">{row.name || row.list}</span>
            </span>
            <span className={WIDE}>{moment(new Date(row.first_at))}</span>
            <span className="truncate">
              {row.interface_id ? (
                <Link className="hover:underline" to={`/traffic?interface=${row.interface_id}`}>
                  {row.where}
                </Link>
              ) : (
                "a port that is gone"
              )}
            </span>
            <span className={`truncate ${WIDE}`}>
              {row.peer} <span className="text-ink2">{row.service}</span>
            </span>
            <span className={`text-right ${WIDE}`}>{text(volume(row.octets))}</span>
            <span className="flex justify-end gap-2">
              {mayAccept && (
                <Link
                  className="underline max-md:hidden"
                  to={`/traffic?${new URLSearchParams({ list: "captures", address: row.address, why: `stranger ${row.address}` })}`}
                >
                  capture
                </Link>
              )}
              {mayAccept ? (
                <button
                  type="button"
                  className="underline"
                  disabled={accept.isPending}
                  onClick={() => accept.mutate(row)}
                >
                  accept
                </button>
              ) : (
                row.accepted_by && <span className="text-ink2">by {row.accepted_by}</span>
              )}
            </span>
          </li>
        ))}
      </ul>
    </>
  );
}

function Lists({ lists, mayChange }: { lists: AddressList[]; mayChange: boolean }) {
  const [open, setOpen] = useState<number | "new" | null>(null);
  return (
    <section aria-label="Known addresses" className="mt-3 text-small">
      <h2 className="heading">Known addresses</h2>
      {lists.map((each) => (
        <div key={each.id} className="border-b border-dotted border-rule py-[3px]">
          <p className="flex flex-wrap gap-x-3">
            <b className="font-medium">{each.name}</b>
            <span className="text-ink2">
              {each.is_deny ? "must not be seen" : "everybody else is a stranger"}
              {each.enabled ? `, ${counted(each.strangers, "stranger")}` : ", not looked at"}
            </span>
            {mayChange && (
              <button type="button" className="underline" onClick={() => setOpen(open === each.id ? null : each.id)}>
                {open === each.id ? "close" : "change"}
              </button>
            )}
          </p>
          {mayChange && each.strangers > 0 && <AcceptMany list={each} />}
          {open === each.id && <AddressListForm list={each} onDone={() => setOpen(null)} />}
        </div>
      ))}
      {mayChange &&
        (open === "new" ? (
          <AddressListForm list={null} onDone={() => setOpen(null)} />
        ) : (
          <button type="button" className="button mt-1" onClick={() => setOpen("new")}>
            New list
          </button>
        ))}
    </section>
  );
}

/** Accepting strangers by a prefix, or all that were seen so far. */
function AcceptMany({ list }: { list: AddressList }) {
  const queries = useQueryClient();
  const [prefix, setPrefix] = useState("");
  const accept = useMutation({
    mutationFn: (everybody: boolean) =>
      acceptStrangers(list.id, { addresses: [], prefix: everybody ? "" : prefix, everybody }),
    onSuccess: () => {
      setPrefix("");
      void queries.invalidateQueries({ queryKey: ["strangers"] });
    },
  });
  return (
    <>
      <p className="flex flex-wrap items-center gap-2 py-1">
        <input
          className="field w-40"
          aria-label={`Prefix to accept in ${list.name}`}
          placeholder="172.31.9.0/24"
          value={prefix}
          onChange={(event) => setPrefix(event.target.value)}
        />
        <button
          type="button"
          className="button"
          disabled={!prefix.trim() || accept.isPending}
          onClick={() => accept.mutate(false)}
        >
          Accept the prefix
        </button>
        <button type="button" className="button" disabled={accept.isPending} onClick={() => accept.mutate(true)}>
          {list.strangers === 1 ? "Accept the one" : `Accept all ${list.strangers.toLocaleString("en-GB")}`} seen so far
        </button>
      </p>
      <Problem error={accept.error} />
    </>
  );
}
