import { useQuery } from "@tanstack/react-query";
import { logbookQuery, type Range } from "../../api/queries";
import { moment } from "../../components/format";

const SHOWN = 8;

/** What happened to a device or a port in the screen's time, newest first; nothing where nothing did. */
export function LogbookLines({ range, only }: { range: Range; only: { device?: number; interface?: number } }) {
  const { data: entries } = useQuery(logbookQuery(range, only));
  if (!entries?.length) return null;
  return (
    <>
      <h2 className="heading mt-3">Logbook</h2>
      {entries.slice(0, SHOWN).map((entry) => (
        <p
          key={entry.id}
          className="grid grid-cols-[84px_minmax(0,1fr)] gap-2 border-b border-dotted border-rule py-[3px] text-small"
        >
          <span className="figures">{moment(new Date(entry.at))}</span>
          <span>
            {entry.text}
            {entry.by && <span className="text-ink2"> by {entry.by}</span>}
          </span>
        </p>
      ))}
      {entries.length > SHOWN && <p className="py-[3px] text-small text-ink2">{entries.length - SHOWN} earlier ones</p>}
    </>
  );
}
