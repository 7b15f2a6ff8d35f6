import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { useTimeSearch } from "../../app/screenTime";
import { duration, moment } from "../../components/format";
import { Severity } from "../../components/Severity";

type Props = { episodes: Schemas["Episode"][]; alarm: number };

/** When this alarm, and others of its type close to it, had been active before, and what somebody said of it. */
export function Similar({ episodes, alarm }: Props) {
  const keep = useTimeSearch();
  if (!episodes.length) return null;
  return (
    <section aria-label="Similar ones before">
      <h3 className="heading mt-3">Similar ones before</h3>
      <ul>
        {episodes.map((each) => (
          <li
            key={`${each.alarm_id}${each.raised_at}`}
            className="grid grid-cols-[20px_92px_64px_minmax(0,1fr)] gap-2 border-b border-dotted border-rule py-1 text-small"
          >
            <Severity level={each.severity} />
            <span className="figures text-ink2">{moment(new Date(each.raised_at))}</span>
            <span className="figures text-ink2">
              {duration((Date.parse(each.cleared_at) - Date.parse(each.raised_at)) / 1000)}
            </span>
            <span>
              {each.alarm_id === alarm ? (
                "here"
              ) : (
                <Link className="underline" to={`/alarms/${each.alarm_id}${keep()}`}>
                  {each.label}
                </Link>
              )}
              {each.comment && `: ${each.comment}`} {each.by && <span className="text-ink2">by {each.by}</span>}
            </span>
          </li>
        ))}
      </ul>
    </section>
  );
}
