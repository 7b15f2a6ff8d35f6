import { useInfiniteQuery } from "@tanstack/react-query";
import { useState } from "react";
import type { Schemas } from "../../api/client";
import { auditQuery } from "../../api/setupQueries";
import { moment } from "../../components/format";
import { Problem } from "../../components/Problem";
import { useTyped } from "../../components/useTyped";

type Entry = Schemas["AuditOut"];

const KINDS: Record<string, string> = { INSERT: "made", UPDATE: "changed", DELETE: "deleted" };

/** Who asked for what, and what it changed. */
export function Audit() {
  const [words, setWords] = useState("");
  const sought = useTyped(words);
  const { data, error, fetchNextPage, hasNextPage, isFetchingNextPage } = useInfiniteQuery(auditQuery(sought));
  const rows = data?.pages.flatMap((page) => page.rows);
  const total = data?.pages[0]?.total ?? 0;
  return (
    <div className="max-w-[980px]">
      <h1 className="text-title font-semibold tracking-tight">Audit trail</h1>
      <p className="mb-2 text-ink2">
        Every write through the screens, the API and the command line, refused ones too. Secrets are never in it.
      </p>
      <p className="mb-2 flex items-baseline gap-3">
        <input
          type="search"
          aria-label="Search"
          placeholder="A name, an address, a value before or after"
          className="field w-[320px] max-w-full"
          value={words}
          onChange={(event) => setWords(event.target.value)}
        />
        <span className="figures text-ink2">{rows && `${total.toLocaleString("en-GB")} entries`}</span>
      </p>
      <Problem error={error} />
      {rows?.length === 0 && <p className="text-ink2">{sought ? "No matching entries." : "No changes yet."}</p>}
      <ol className="border-t border-rule">
        {rows?.map((entry) => (
          <Row key={`${entry.at}${entry.path}`} entry={entry} />
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

function Row({ entry }: { entry: Entry }) {
  return (
    <li className="grid grid-cols-[112px_130px_minmax(0,1fr)] gap-x-3 border-b border-faint py-1.5 max-md:grid-cols-[minmax(0,1fr)]">
      <span className="figures text-ink2">{moment(new Date(entry.at))}</span>
      <span className="min-w-0">
        <b className="block truncate font-medium">{entry.by || "nobody"}</b>
        <span className="block truncate text-small text-ink2">
          {[entry.via, entry.address].filter(Boolean).join(", ")}
        </span>
      </span>
      <div className="min-w-0">
        <p className="flex gap-2">
          <span className="truncate">{entry.what}</span>
          {entry.status >= 400 && (
            <span className="shrink-0 text-critical">
              {entry.status < 500 ? "refused" : "failed"} ({entry.status})
            </span>
          )}
        </p>
        {entry.changes.map((change, place) => (
          // biome-ignore lint/suspicious/noArrayIndexKey: the changes of an entry never change
          <p key={place} className="text-small text-ink2">
            {change.what} {change.name && <b className="font-medium text-ink">{change.name}</b>} {KINDS[change.kind]}
            {change.kind === "UPDATE" && `: ${fields(change)}`}
          </p>
        ))}
        {entry.more > 0 && <p className="text-small text-ink2">and {entry.more} more</p>}
      </div>
    </li>
  );
}

/** Each column from what to what. */
function fields({ before, after }: Schemas["AuditedChange"]): string {
  return Object.keys(after)
    .map((name) => `${name.replaceAll("_", " ")} ${shown(before[name])} → ${shown(after[name])}`)
    .join("; ");
}

function shown(value: unknown): string {
  if (value === null || value === undefined || value === "") return "nothing";
  const text = typeof value === "string" ? value : JSON.stringify(value);
  return text.length > 90 ? `${text.slice(0, 89)}…` : text;
}
