/** Severities by their number in the API (RFC 8632), in rising order. */
export const SEVERITIES = [
  { word: "cleared", colour: "var(--ink3)" },
  { word: "indeterminate", colour: "var(--ink2)" },
  { word: "warning", colour: "var(--warning)" },
  { word: "minor", colour: "var(--minor)" },
  { word: "major", colour: "var(--major)" },
  { word: "critical", colour: "var(--critical)" },
] as const;

/** The colour token of a severity, for canvases. */
export const tokenOf = (severity: number) => SEVERITIES[severity]?.colour.slice("var(--".length, -1) ?? "ink2";
