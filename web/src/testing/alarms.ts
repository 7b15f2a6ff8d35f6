import type { Schemas } from "../api/client";

/** An alarm as a list has it. */
export const alarmRow = (id: number, more: Partial<Schemas["AlarmRow"]> = {}) =>
  ({
    id,
    label: `hex-wan-${id}`,
    text: "94 % full",
    type: "utilisation",
    severity: 4,
    raised_at: "2026-11-27T10:00:00Z",
    acknowledged_by: null,
    shelved_by: null,
    cause_id: null,
    cause_reason: "",
    consequences: 0,
    raised_lately: 1,
    plan: null,
    ...more,
  }) as Schemas["AlarmRow"];

/** A rule as it is stored. */
export const ruleOut = (more: Partial<Schemas["RuleOut"]> = {}) =>
  ({
    id: 3,
    name: "Utilisation",
    measure: "load",
    unit: "%",
    subject: "interface",
    direction: "above",
    reference: "",
    levels: [{ severity: 4, limit: 80, clear: 60, low: null, low_clear: null }],
    exceptions: [],
    ...more,
  }) as unknown as Schemas["RuleOut"];
