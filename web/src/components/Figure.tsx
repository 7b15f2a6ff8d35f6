import type { Figure as Parts } from "./format";

/** A figure with its unit set smaller; a dash for what is not known. */
export function Figure({ of }: { of: Parts | null }) {
  if (!of) return <span className="text-ink2">–</span>;
  return (
    <span className="figures whitespace-nowrap">
      {of.figure}
      <span className="unit">{of.unit}</span>
    </span>
  );
}
