import { type QueryKey, useMutation, useQueryClient } from "@tanstack/react-query";
import { type ReactNode, useState } from "react";
import { Problem } from "../../components/Problem";
import { Ordered } from "./Ordered";
import { Page } from "./Page";

type Props<Row> = {
  title: string;
  words: string;
  /** What the button that opens an empty form says. */
  make: string;
  /** What moving a row up means, for its button. */
  up?: string;
  rows: Row[];
  /** Of the query that lists the rows; it is asked again when their order has changed. */
  listed: QueryKey;
  /** Without it the order does not matter. */
  order?: (ids: number[]) => Promise<unknown>;
  form: (stored: Row | undefined, onDone: () => void) => ReactNode;
  said: (row: Row) => ReactNode;
  aside: (row: Row) => ReactNode;
  /** What is said while there is nothing in the list. */
  empty: string;
  /** What stands above the list. */
  before?: ReactNode;
  /** What stands beneath the list while no form is open. */
  children?: ReactNode;
};

/** A part of the set-up with a list, which may have an order: the list on the left, the form of one row on the right. */
export function OrderedPage<Row extends { id: number; name: string; edition: number }>(props: Props<Row>) {
  const { rows, listed, form } = props;
  const queries = useQueryClient();
  const [open, setOpen] = useState<number | "new" | null>(null);
  const order = useMutation({
    mutationFn: async (ids: number[]) => props.order?.(ids),
    onSuccess: () => queries.invalidateQueries({ queryKey: listed }),
  });
  const stored = rows.find((row) => row.id === open);
  return (
    <Page
      title={props.title}
      words={props.words}
      aside={
        open === null ? (
          <button type="button" className="button" onClick={() => setOpen("new")}>
            {props.make}
          </button>
        ) : (
          <div key={stored ? `${stored.id} ${stored.edition}` : "new"}>{form(stored, () => setOpen(null))}</div>
        )
      }
    >
      {props.before}
      <Problem error={order.error} />
      <Ordered
        rows={rows}
        open={open}
        onOpen={setOpen}
        {...(props.order ? { onOrder: (ids: number[]) => order.mutate(ids) } : {})}
        {...(props.up ? { up: props.up } : {})}
        words={props.said}
        aside={props.aside}
      />
      {rows.length === 0 && <p className="py-2">{props.empty}</p>}
      {open === null && props.children}
    </Page>
  );
}
