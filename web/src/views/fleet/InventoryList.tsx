import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { Link, useNavigate, useSearchParams } from "react-router";
import type { Schemas } from "../../api/client";
import { inventoryQuery } from "../../api/queries";
import { ownFieldsQuery } from "../../api/setupQueries";
import { usePlace } from "../../app/usePlace";
import { moment } from "../../components/format";
import { Problem } from "../../components/Problem";
import { ListHead } from "./ListHead";
import { Rows } from "./Rows";
import { useTrail } from "./trail";

type Item = Schemas["Item"];

const COLUMNS: [string, string, string][] = [
  ["name", "name", "130px"],
  ["site", "site", "96px"],
  ["maker", "maker", "130px"],
  ["model", "model", "minmax(0,1fr)"],
  ["serial", "serial", "84px"],
  ["software", "software", "70px"],
  ["ports", "ports", "44px"],
  ["changed", "last change", "minmax(0,1.3fr)"],
];

/** Devices as things: maker, model, serial number, software, own fields, and what changed last. */
export function InventoryList() {
  const { place, name: placeName } = usePlace();
  const [search] = useSearchParams();
  const navigate = useNavigate();
  const trail = useTrail();
  const sort = search.get("by") ?? "name";
  const since = search.get("since") ?? "";
  const words = search.get("words") ?? "";
  const { data: own } = useQuery(ownFieldsQuery);
  const filter = { sort, words, ...place, ...(since ? { since: `${since}T00:00:00Z` } : {}) };
  const { data, error } = useQuery({ ...inventoryQuery(filter), placeholderData: keepPreviousData });
  const fields = own?.map((field) => field.name) ?? [];
  const grid = { gridTemplateColumns: [...COLUMNS.map(([, , width]) => width), ...fields.map(() => "90px")].join(" ") };
  const by = (column: string) =>
    navigate(trail.stay({ by: sort === column ? `-${column}` : column }), { replace: true });
  const csv = new URLSearchParams(Object.entries(filter).map(([key, value]) => [key, String(value)]));
  return (
    <div className="grid h-full grid-rows-[auto_auto_minmax(0,1fr)]">
      <ListHead title={placeName || "Everything"} count={`${data?.total ?? "–"} devices`} list="inventory" />
      <div className="px-3.5">
        <p className="flex items-center gap-3 py-1 text-small text-ink2">
          <label className="flex items-center gap-1.5">
            changed since
            <input
              type="date"
              className="border-b border-rule bg-transparent text-ink"
              value={since}
              onChange={(event) => navigate(trail.stay({ since: event.target.value || null }), { replace: true })}
            />
          </label>
          <a className="underline" href={`/api/v1/catalogue.csv?${csv}`} download>
            CSV
          </a>
        </p>
        <div className="grid gap-2 border-b border-rule pb-1 text-small text-ink2" style={grid}>
          {COLUMNS.map(([column, title]) => (
            <button
              key={column}
              type="button"
              className={`truncate ${column === "ports" ? "text-right" : "text-left"} ${sort.replace("-", "") === column ? "font-semibold text-ink" : "hover:text-ink"}`}
              onClick={() => by(column)}
            >
              {title}
              {sort === column && " ↓"}
              {sort === `-${column}` && " ↑"}
            </button>
          ))}
          {fields.map((name) => (
            <span key={name} className="truncate">
              {name}
            </span>
          ))}
        </div>
        <Problem error={error} />
      </div>
      <Rows
        name={`inventory ${placeName}`}
        rows={data?.rows ?? []}
        row={(item: Item) => <Line item={item} fields={fields} grid={grid} to={trail.thing("device", item.id)} />}
      />
    </div>
  );
}

function Line({ item, fields, grid, to }: { item: Item; fields: string[]; grid: React.CSSProperties; to: string }) {
  const cells = [item.site, item.maker, item.model, item.serial, item.software];
  return (
    <Link
      data-row
      to={to}
      className="figures grid items-center gap-2 border-b border-faint px-3.5 py-1 hover:bg-lampsoft"
      style={grid}
    >
      <b className="truncate font-medium">{item.name}</b>
      {cells.map((cell, place) => (
        // biome-ignore lint/suspicious/noArrayIndexKey: columns do not move
        <span key={place} className="truncate text-ink2" title={cell}>
          {cell}
        </span>
      ))}
      <span className="text-right">{item.ports}</span>
      <span className="truncate text-ink2" title={item.change}>
        {item.changed_at && `${moment(new Date(item.changed_at))} ${item.change}`}
      </span>
      {fields.map((name) => (
        <span key={name} className="truncate" title={item.own[name]}>
          {item.own[name]}
        </span>
      ))}
    </Link>
  );
}
