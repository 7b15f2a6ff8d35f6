import { SEVERITIES } from "./severities";

const SHAPES = [
  <path key="0" d="M3 8h10" stroke="var(--ink2)" strokeWidth="2" />,
  <rect key="1" x="3" y="3" width="10" height="10" fill="none" stroke="var(--ink2)" strokeWidth="2" />,
  <circle key="2" cx="8" cy="8" r="5" fill="none" stroke="var(--warning)" strokeWidth="2" />,
  <path key="3" d="M8 2.500 14.500 14h-13z" fill="none" stroke="var(--minor)" strokeWidth="2" />,
  <path key="4" d="M8 1l8 14H0z" fill="var(--major)" />,
  <g key="5">
    <path d="M8 0l8 8-8 8-8-8z" fill="var(--critical)" />
    <path d="M7 4h2v5H7zM7 10.500h2v2H7z" fill="var(--sheet)" />
  </g>,
];

/** A severity as a shape; its word is read out, and shown on hovering. */
export function Severity({ level, size = "14" }: { level: number; size?: string }) {
  const word = SEVERITIES[level]?.word ?? "unknown";
  return (
    <svg width={size} height={size} viewBox="0 0 16 16" role="img" aria-label={word} className="shrink-0">
      <title>{word}</title>
      {SHAPES[level]}
    </svg>
  );
}
