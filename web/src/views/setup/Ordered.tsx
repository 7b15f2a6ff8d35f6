import type { ReactNode } from "react";

type Props<Row> = {
  rows: Row[];
  open: number | "new" | null;
  onOpen: (id: number) => void;
  /** Numbers in the new order; without it the order does not matter. */
  onOrder?: (ids: number[]) => void;
  /** What moving a row up means, for its button. */
  up?: string;
  words: (row: Row) => ReactNode;
  aside?: (row: Row) => ReactNode;
};

/** A list whose order matters: each row can be opened and moved up. */
export function Ordered<Row extends { id: number; name: string }>(props: Props<Row>) {
  const { rows, open, onOpen, onOrder, up = "Move up:", words, aside } = props;
  const moved = (place: number) => {
    const ids = rows.map((row) => row.id);
    [ids[place - 1], ids[place]] = [ids[place] as number, ids[place - 1] as number];
    onOrder?.(ids);
  };
  return (
    <ol className="border-t border-rule">
      {rows.map((row, place) => (
        <li
          key={row.id}
          className={`grid items-baseline gap-2 border-b border-faint py-1.5 ${onOrder ? "grid-cols-[26px_minmax(0,1fr)_auto]" : "grid-cols-[minmax(0,1fr)_auto] pl-1.5"} ${open === row.id ? "bg-lampsoft shadow-[inset_3px_0_var(--lamp)]" : ""}`}
        >
          {onOrder && (
            <button
              type="button"
              className="min-w-6 pl-1.5 text-ink2 hover:text-ink disabled:opacity-0"
              disabled={place === 0}
              onClick={() => moved(place)}
              aria-label={`${up} ${row.name}`}
            >
              ↑
            </button>
          )}
          <div className="min-w-0">
            <button type="button" data-row className="font-semibold hover:underline" onClick={() => onOpen(row.id)}>
              {row.name}
            </button>{" "}
            {words(row)}
          </div>
          <span className="figures text-right">{aside?.(row)}</span>
        </li>
      ))}
    </ol>
  );
}
