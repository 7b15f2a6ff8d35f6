import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { client, got, type Schemas } from "../../api/client";
import { useKeys } from "../../app/keys";
import { useMay } from "../../app/session";
import { counted } from "../../components/format";

type Row = Schemas["AlarmRow"];
type Kind = Schemas["ActionIn"]["kind"];

const SHELVES = [
  ["3600", "1 hour"],
  ["28800", "8 hours"],
  ["86400", "1 day"],
  ["604800", "7 days"],
  ["", "until cleared"],
] as const;

/** What can be done about alarms, one or several: acknowledge, shelve, comment, and take back. Keys: a, s and c. */
export function AlarmActions({ rows, onDone }: { rows: Row[]; onDone?: () => void }) {
  const queries = useQueryClient();
  const [text, setText] = useState("");
  const [forS, setForS] = useState("3600");
  const comment = useRef<HTMLInputElement>(null);
  const act = useMutation({
    mutationFn: (body: { kind: Kind; for_s?: number | null }) =>
      got(client.POST("/api/v1/alarms/actions", { body: { alarms: rows.map(({ id }) => id), text, ...body } })),
    onSuccess: () => {
      setText("");
      void queries.invalidateQueries({ queryKey: ["alarms"] });
      void queries.invalidateQueries({ queryKey: ["now"] });
      onDone?.();
    },
  });
  const mayAct = useMay()("operator");
  const areActive = rows.length > 0 && rows.every(({ severity }) => severity > 0);
  const areAcknowledged = areActive && rows.every((row) => row.acknowledged_by);
  const areShelved = rows.length > 0 && rows.every((row) => row.shelved_by);
  const areClosed = areShelved && rows.every(({ shelf }) => shelf === "close");
  const acknowledge = () => act.mutate({ kind: areAcknowledged ? "unacknowledge" : "acknowledge" });
  const shelve = () =>
    areShelved
      ? act.mutate({ kind: areClosed ? "reopen" : "unshelve" })
      : act.mutate({ kind: "shelve", for_s: forS ? Number(forS) : null });
  useKeys(
    mayAct && rows.length
      ? {
          c: () => comment.current?.focus(),
          ...(areActive ? { a: acknowledge } : {}),
          ...(areActive || areShelved ? { s: shelve } : {}),
        }
      : {},
  );
  if (!mayAct || !rows.length) return null;
  return (
    <form
      aria-label={`Actions on ${counted(rows.length, "alarm")}`}
      className="flex flex-wrap items-center gap-2 py-2"
      onSubmit={(event) => {
        event.preventDefault();
        act.mutate({ kind: "comment" });
      }}
    >
      {areActive && (
        <button type="button" className="button" disabled={act.isPending} onClick={acknowledge}>
          {areAcknowledged ? "Take back acknowledgement" : "Acknowledge"}
        </button>
      )}
      {areShelved ? (
        <button type="button" className="button" disabled={act.isPending} onClick={shelve}>
          {areClosed ? "Open again" : "Unshelve"}
        </button>
      ) : (
        areActive && (
          <span className="flex items-center gap-1">
            <button type="button" className="button" disabled={act.isPending} onClick={shelve}>
              Shelve
            </button>
            <select
              aria-label="For how long"
              className="field px-1 py-[3px]"
              value={forS}
              onChange={(event) => setForS(event.target.value)}
            >
              {SHELVES.map(([seconds, words]) => (
                <option key={seconds} value={seconds}>
                  {seconds ? `for ${words}` : words}
                </option>
              ))}
            </select>
          </span>
        )
      )}
      {areActive && !areShelved && (
        <button
          type="button"
          className="button"
          disabled={act.isPending}
          title="Dealt with: it is listed again when it is raised anew"
          onClick={() => act.mutate({ kind: "close" })}
        >
          Close
        </button>
      )}
      <span className="flex min-w-[190px] flex-1 items-center gap-1">
        <input
          ref={comment}
          aria-label="Comment"
          className="field min-w-0 flex-1 py-[3px]"
          maxLength={1000}
          placeholder="Comment, also for the action"
          value={text}
          onChange={(event) => setText(event.target.value)}
          onKeyDown={(event) => event.key === "Escape" && event.currentTarget.blur()}
        />
        <button type="submit" className="button" disabled={act.isPending || !text.trim()}>
          Comment
        </button>
      </span>
      {act.error && (
        <p role="alert" className="w-full text-critical">
          {act.error.message}
        </p>
      )}
    </form>
  );
}
