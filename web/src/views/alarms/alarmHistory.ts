import type { Schemas } from "../../api/client";
import { moment } from "../../components/format";

export type Happening = { at: string; severity: number | null; text: string; by: string };

const DONE: Record<Schemas["ActionOut"]["kind"], string> = {
  acknowledge: "Acknowledged",
  unacknowledge: "Acknowledgement taken back",
  shelve: "Shelved",
  unshelve: "Taken off the shelf",
  maintenance: "In maintenance",
  close: "Closed",
  reopen: "Opened again",
  comment: "",
};

/** What an action was, in words. */
export function said({ kind, text, until }: Schemas["ActionOut"]): string {
  const ends =
    kind === "shelve" || kind === "maintenance"
      ? until
        ? ` until ${moment(new Date(until))}`
        : " until it is cleared"
      : "";
  const done = `${DONE[kind]}${ends}`;
  return done && text ? `${done}: ${text}` : done || text;
}

/** Changes of the status and what people did, newest first. */
export function historyOf({ changes, actions }: Pick<Schemas["AlarmOut"], "changes" | "actions">): Happening[] {
  return [
    ...changes.map(({ at, severity, text }) => ({ at, severity, text, by: "" })),
    ...actions.map((action) => ({ at: action.at, severity: null, text: said(action), by: action.by })),
  ].sort((one, other) => Date.parse(other.at) - Date.parse(one.at));
}
