import { useMemo, useRef } from "react";
import type { Schemas } from "../../api/client";
import { moment, month } from "../../components/format";
import { SEVERITIES } from "../../components/severities";
import { useSize } from "../../components/useSize";
import { type Mark, marksByDay } from "./calendarMarks";

const LEFT = 30;
const HOUR = 3.6;
const FOOT = 16;

/** When alarms would have been active: a column a day, from midnight at the top to midnight. */
export function RehearsalCalendar({ data }: { data: Schemas["RehearsalOut"] }) {
  const box = useRef<HTMLDivElement>(null);
  const { width } = useSize(box);
  const { days, marks } = useMemo(() => marksByDay(data), [data]);
  const column = Math.max(4, (width - LEFT) / days.length);
  const height = 24 * HOUR;
  const bar = ({ day, from, to, severity, alarm }: Mark, number: number) => (
    <rect
      key={`${alarm.subject_id} ${alarm.raised_at} ${number}`}
      x={LEFT + day * column + 1}
      y={from * HOUR}
      width={Math.max(2, column - 3)}
      height={Math.max(2, (to - from) * HOUR)}
      fill={SEVERITIES[severity]?.colour}
    >
      <title>{`${alarm.label}: ${SEVERITIES[alarm.severity]?.word}, ${moment(new Date(1000 * alarm.raised_at))} to ${alarm.cleared_at ? moment(new Date(1000 * alarm.cleared_at)) : "now"}`}</title>
    </rect>
  );
  return (
    <div ref={box}>
      <svg
        width={width}
        height={height + FOOT}
        role="img"
        aria-label={`When ${data.alarms} alarms would have been active`}
      >
        {days.map((date, number) => (
          <g key={date.getTime()}>
            {[0, 6, 12, 18].map((hour) => (
              <rect
                key={hour}
                x={LEFT + number * column}
                y={hour * HOUR}
                width={column - 1}
                height={6 * HOUR - 1}
                fill={hour === 0 || hour === 18 ? "var(--track)" : "var(--faint)"}
              />
            ))}
            {(days.length <= 8 || number % 7 === 0) && (
              <text x={LEFT + number * column} y={height + 12} className="fill-ink2 text-tiny">
                {date.getDate()} {month(date)}
              </text>
            )}
          </g>
        ))}
        {[0, 6, 12, 18].map((hour) => (
          <text key={hour} x={0} y={hour * HOUR + 9} className="figures fill-ink2 text-tiny">
            {String(hour).padStart(2, "0")}
          </text>
        ))}
        {marks.map(bar)}
      </svg>
    </div>
  );
}
