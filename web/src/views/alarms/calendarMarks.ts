import type { Schemas } from "../../api/client";

type Alarm = Schemas["MarkOut"];
/** A part of an alarm within one day: the day's place, from and to in hours. */
export type Mark = { day: number; from: number; to: number; severity: number; alarm: Alarm };

const midnight = (seconds: number) => {
  const time = new Date(seconds * 1000);
  time.setHours(0, 0, 0, 0);
  return time;
};

const next = (day: Date) => new Date(day.getFullYear(), day.getMonth(), day.getDate() + 1);

/** The days of a rehearsal, and its alarms cut at midnight; the worst ones are drawn last, over the others. */
export function marksByDay(data: { start: number; end: number; listed: Alarm[] }): { days: Date[]; marks: Mark[] } {
  const days: Date[] = [];
  for (let day = midnight(data.start); day.getTime() / 1000 < data.end; day = next(day)) days.push(day);
  const marks = data.listed.flatMap((alarm) => {
    const until = alarm.cleared_at ?? data.end;
    return days.flatMap((day, number) => {
      const [begins, ends] = [day.getTime() / 1000, next(day).getTime() / 1000];
      if (alarm.raised_at >= ends || until <= begins) return [];
      const hour = (at: number) => (24 * (at - begins)) / (ends - begins);
      const [from, to] = [hour(Math.max(begins, alarm.raised_at)), hour(Math.min(ends, until))];
      return [{ day: number, from, to, severity: alarm.severity, alarm }];
    });
  });
  return { days, marks: marks.sort((one, other) => one.severity - other.severity) };
}
