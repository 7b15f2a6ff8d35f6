import { type QueryKey, type UseQueryOptions, useQueries } from "@tanstack/react-query";
import { type Range, useVirtualizer, type Virtualizer } from "@tanstack/react-virtual";
import { type ReactNode, type RefObject, useEffect, useRef, useState } from "react";
import { PAGE } from "../../api/queries";

const HEIGHT = 28;
const places = new Map<string, number>();

type Scrolled = Virtualizer<HTMLDivElement, Element>;

/** A scrolled box of rows of one height, of which only those in sight are drawn; it keeps its place under its name. */
function useRows(
  name: string,
  count: number,
  onRange?: (range: Range) => void,
): [RefObject<HTMLDivElement | null>, Scrolled] {
  const box = useRef<HTMLDivElement>(null);
  const virtual = useVirtualizer({
    count,
    getScrollElement: () => box.current,
    estimateSize: () => HEIGHT,
    overscan: 12,
    initialOffset: () => places.get(name) ?? 0,
    onChange: ({ range }) => {
      if (range) onRange?.({ ...range, overscan: 12, count });
    },
  });
  useEffect(() => {
    const target = box.current;
    if (!target) return;
    target.scrollTop = places.get(name) ?? 0;
    const keep = () => places.set(name, target.scrollTop);
    target.addEventListener("scroll", keep, { passive: true });
    return () => target.removeEventListener("scroll", keep);
  }, [name]);
  return [box, virtual];
}

type BoxProps = { box: RefObject<HTMLDivElement | null>; virtual: Scrolled; row: (index: number) => ReactNode };

function Box({ box, virtual, row }: BoxProps) {
  return (
    <div ref={box} className="min-h-0 grow overflow-auto">
      <div className="relative" style={{ height: virtual.getTotalSize() }}>
        {virtual.getVirtualItems().map((item) => (
          <div key={item.key} className="absolute inset-x-0" style={{ height: HEIGHT, top: item.start }}>
            {row(item.index)}
          </div>
        ))}
      </div>
    </div>
  );
}

/** A list whose rows are all there. */
export function Rows<T>({ name, rows, row }: { name: string; rows: T[]; row: (item: T) => ReactNode }) {
  const [box, virtual] = useRows(name, rows.length);
  const rowAt = (index: number) => {
    const item = rows[index];
    return item === undefined ? null : row(item);
  };
  return <Box box={box} virtual={virtual} row={rowAt} />;
}

type Page<T> = { rows: T[]; total: number; next: string | null };
type PagedProps<T, Key extends QueryKey> = {
  name: string;
  total: number;
  page: (number: number) => UseQueryOptions<Page<T>, Error, Page<T>, Key>;
  row: (item: T) => ReactNode;
};

/** A list of any length: the pages in sight are fetched, and fetched again when they become stale. */
export function PagedRows<T, Key extends QueryKey>({ name, total, page, row }: PagedProps<T, Key>) {
  const [first, setFirst] = useState(0);
  const [last, setLast] = useState(0);
  const [box, virtual] = useRows(name, total, ({ startIndex, endIndex }) => {
    setFirst(Math.floor(startIndex / PAGE));
    setLast(Math.floor(endIndex / PAGE));
  });
  const numbers = Array.from({ length: last - first + 1 }, (_, place) => first + place);
  const pages = useQueries({ queries: numbers.map((number) => page(number)) });
  const rowAt = (index: number) => {
    const item = pages[Math.floor(index / PAGE) - first]?.data?.rows[index % PAGE];
    if (item !== undefined) return row(item);
    return <div className="flex h-full items-center px-3.5 text-ink2">…</div>;
  };
  return <Box box={box} virtual={virtual} row={rowAt} />;
}
