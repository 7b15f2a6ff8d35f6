import type { Schemas } from "../../api/client";
import { moment } from "../../components/format";
import { SEVERITIES } from "../../components/severities";

type Told = Schemas["NotificationOut"];

/** Who was called about an alarm, with what answer, and who is next. */
export function Called({ alarm }: { alarm: Schemas["AlarmOut"] }) {
  const { notifications, call, row } = alarm;
  return (
    <section aria-label="Who was called">
      <h3 className="heading mt-4">Who was called</h3>
      {notifications.length === 0 && (
        <p className="text-ink2">
          {row.plan
            ? "Nobody: the call plan reached nobody when these changes happened, or the alarm was quiet."
            : "Nobody: the rule had no call plan when these changes happened."}
        </p>
      )}
      {call?.next_at && (
        <p className="py-1">
          Next call by {call.plan} at <span className="figures">{moment(new Date(call.next_at))}</span> unless somebody
          acknowledges.
        </p>
      )}
      {notifications.map((each) => (
        <p
          key={`${each.at}${each.contact}${each.target}${each.severity}${each.due_at}`}
          className="grid grid-cols-[92px_minmax(0,1fr)_auto] gap-2 border-b border-dotted border-rule py-1 text-small"
        >
          <span className="figures text-ink2">{moment(new Date(each.sent_at ?? each.due_at))}</span>
          <span className="truncate" title={each.target}>
            {each.contact}{" "}
            <span className="text-ink2">
              {SEVERITIES[each.severity]?.word}, {each.target}
            </span>
          </span>
          <span className={each.state === "failed" ? "text-critical" : "text-ink2"} title={each.answer}>
            {stateOf(each)}
          </span>
        </p>
      ))}
    </section>
  );
}

function stateOf({ state, attempts, due_at }: Told): string {
  if (state === "sent") return "sent";
  if (state === "failed") return "not sent";
  if (attempts) return `tried ${attempts} times`;
  return Date.parse(due_at) > Date.now() ? "held back: quiet hours" : "waiting to be sent";
}
