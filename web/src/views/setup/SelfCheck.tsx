import { useQuery } from "@tanstack/react-query";
import { selfCheckQuery } from "../../api/setupQueries";
import { moment } from "../../components/format";
import { Problem } from "../../components/Problem";

const MARKS: Record<string, string> = { well: "✓", watch: "·", wrong: "✕" };
const COLOURS: Record<string, string> = { well: "text-in", watch: "text-ink", wrong: "text-critical" };

/** Lumtar looks at itself: what was found, what it means, what to do. */
export function SelfCheck() {
  const { data: findings, error, dataUpdatedAt, refetch, isFetching } = useQuery(selfCheckQuery);
  const wrong = findings?.filter((each) => each.state !== "well").length ?? 0;
  return (
    <div className="max-w-[860px]">
      <h1 className="text-title font-semibold tracking-tight">Self-check</h1>
      <p className="mb-2 text-ink2">
        {findings && (wrong ? `${wrong} of ${findings.length} need somebody.` : "All is well.")}{" "}
        {dataUpdatedAt > 0 && `Looked at ${moment(new Date(dataUpdatedAt))}.`}{" "}
        <button type="button" className="text-ink underline" disabled={isFetching} onClick={() => void refetch()}>
          Look again
        </button>
      </p>
      <Problem error={error} />
      <dl className="border-t border-rule">
        {findings?.map((each) => (
          <div
            key={`${each.subject} ${each.words}`}
            className="grid grid-cols-[130px_minmax(0,1fr)] gap-2 border-b border-faint py-1.5"
          >
            <dt className="flex gap-2">
              <b className={COLOURS[each.state]}>
                <span aria-hidden>{MARKS[each.state]}</span>
                <span className="sr-only">{each.state}</span>
              </b>
              {each.subject}
            </dt>
            <dd>
              <span className={each.state === "wrong" ? "text-critical" : ""}>{each.words}</span>
              {each.means && <p className="text-ink2">{each.means}</p>}
              {each.then && <p>{each.then}</p>}
            </dd>
          </div>
        ))}
      </dl>
    </div>
  );
}
