const width = (percent: number | null | undefined) => `${Math.min(100, Math.max(percent ? 1 : 0, percent ?? 0))}%`;

/** In above out, as shares of the speed. */
export function LoadBar({
  inPercent,
  outPercent,
  down = false,
}: {
  inPercent: number | null | undefined;
  outPercent: number | null | undefined;
  down?: boolean;
}) {
  if (down) return <div className="h-[6px] border-b border-dashed border-ink3" />;
  return (
    <div className="relative h-[11px] bg-(--track)">
      <i className="absolute top-0 left-0 h-[5px] bg-in" style={{ width: width(inPercent) }} />
      <i className="absolute top-[6px] left-0 h-[5px] bg-out" style={{ width: width(outPercent) }} />
    </div>
  );
}
