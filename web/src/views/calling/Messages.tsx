import { useInfiniteQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { messagesQuery } from "../../api/callingQueries";
import type { Schemas } from "../../api/client";
import { counted, moment } from "../../components/format";
import { InlineChoice } from "../../components/InlineChoice";
import { Problem } from "../../components/Problem";
import { Severity } from "../../components/Severity";
import { useTyped } from "../../components/useTyped";

const STATES = [
  ["", "in any state"],
  ["pending", "waiting"],
  ["sent", "sent"],
  ["failed", "not sent"],
] as const;

/** What was sent to whom, when, and what was answered. */
export function Messages() {
  const [words, setWords] = useState("");
  const [state, setState] = useState("");
  const sought = useTyped(words);
  const { data, error, hasNextPage, fetchNextPage, isFetchingNextPage } = useInfiniteQuery(
    messagesQuery(sought, state),
  );
  const rows = data?.pages.flatMap((page) => page.rows);
  return (
    <div className="max-w-[980px]">
      <h1 className="text-title font-semibold tracking-tight">Messages</h1>
      <p className="mb-2 text-ink2">
        What went out to whom. A message that is not taken is tried again for about 20 minutes, then it goes to the
        contact's other addresses and is an alarm of its own.
      </p>
      <p className="mb-2 flex flex-wrap items-baseline gap-3">
        <input
          type="search"
          aria-label="Search"
          placeholder="A contact or an address"
          className="field w-[260px] max-w-full"
          value={words}
          onChange={(event) => setWords(event.target.value)}
        />
        <InlineChoice label="shown" value={state} options={STATES} onChoose={setState} />
      </p>
      <Problem error={error} />
      {rows?.length === 0 && (
        <p className="text-ink2">{sought || state ? "No matching messages." : "No message was sent yet."}</p>
      )}
      <ol className="border-t border-rule">
        {rows?.map((row) => (
          <Row key={row.id} row={row} />
        ))}
      </ol>
      {hasNextPage && (
        <button
          type="button"
          className="button mt-3"
          disabled={isFetchingNextPage}
          onClick={() => void fetchNextPage()}
        >
          Earlier ones
        </button>
      )}
    </div>
  );
}

function Row({ row }: { row: Schemas["MessageOut"] }) {
  const more = row.alarms - row.about.length;
  return (
    <li className="grid grid-cols-[92px_200px_minmax(0,1fr)_220px] gap-x-3 border-b border-faint py-1.5 max-md:grid-cols-[minmax(0,1fr)]">
      <span className="figures text-ink2">{moment(new Date(row.created_at))}</span>
      <span className="min-w-0">
        <b className="block truncate font-medium">{row.contact}</b>
        <span className="block truncate text-small text-ink2" title={row.target}>
          {row.target}
        </span>
      </span>
      <span className="min-w-0">
        {row.about.map((each) => (
          <Link
            key={`${each.alarm}${each.at}`}
            to={`/alarms/${each.alarm}`}
            className="flex items-center gap-1.5 hover:underline"
          >
            <Severity level={each.severity} />
            <span className="truncate">{each.label}</span>
          </Link>
        ))}
        {more > 0 && <span className="text-small text-ink2">and {counted(more, "more change")}</span>}
      </span>
      <Outcome row={row} />
    </li>
  );
}

function Outcome({ row }: { row: Schemas["MessageOut"] }) {
  const tries = row.attempts > 1 ? ` after ${row.attempts} tries` : "";
  if (row.state === "sent")
    return (
      <span className="min-w-0 text-ink2">
        sent{tries}
        <span className="block truncate text-small" title={row.answer}>
          {row.answer}
        </span>
      </span>
    );
  return (
    <span className="min-w-0">
      <span className={row.state === "failed" ? "text-critical" : ""}>
        {row.state === "failed"
          ? `not sent${tries}`
          : row.attempts
            ? `tried ${row.attempts} times, again at ${moment(new Date(row.next_at))}`
            : "waiting to be sent"}
      </span>
      <span className="block truncate text-small text-ink2" title={row.answer}>
        {row.answer}
      </span>
    </span>
  );
}
