import { useVirtualizer } from "@tanstack/react-virtual";
import { type ReactNode, useEffect, useRef } from "react";

const HEIGHT = 28;
const places = new Map<string, number>();

/** A long list of rows of one height; it keeps its scroll place under a name of its own. */
export function Rows<T>({ name, rows, row }: { name: string; rows: T[]; row: (item: T) => ReactNode }) {
  const box = useRef<HTMLDivElement>(null);
  const virtual = useVirtualizer({
    count: rows.length,
    getScrollElement: () => box.current,
    estimateSize: () => HEIGHT,
    overscan: 12,
    initialOffset: () => places.get(name) ?? 0,
  });
  useEffect(() => {
    const target = box.current;
    if (!target) return;
    target.scrollTop = places.get(name) ?? 0;
    const keep = () => places.set(name, target.scrollTop);
    target.addEventListener("scroll", keep, { passive: true });
    return () => target.removeEventListener("scroll", keep);
  }, [name]);
  return (
    <div ref={box} className="min-h-0 grow overflow-auto">
      <div className="relative" style={{ height: virtual.getTotalSize() }}>
        {virtual.getVirtualItems().map((item) => {
          const found = rows[item.index];
          return (
            <div key={item.key} className="absolute inset-x-0" style={{ height: HEIGHT, top: item.start }}>
              {found !== undefined && row(found)}
            </div>
          );
        })}
      </div>
    </div>
  );
}
