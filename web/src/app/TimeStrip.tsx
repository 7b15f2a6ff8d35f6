import { useQuery } from "@tanstack/react-query";
import { Popover } from "radix-ui";
import { type FormEvent, type PointerEvent, useMemo, useRef, useState } from "react";
import { timelineQuery } from "../api/queries";
import { clock, day, month, range as rangeText } from "../components/format";
import { SEVERITIES } from "../components/severities";
import { useSize } from "../components/useSize";
import { type ScreenTime, SPANS, useSetScreenTime } from "./screenTime";

const HOUR = 3600_000;
const DAY = 24 * HOUR;
const TOP = 4;
const BASE = 40;
/** What a label takes at most. */
const LABEL = 40;

/** The strip's own period: wide enough to show what lies around the range that is shown. */
function period(time: ScreenTime): [number, number] {
  const length = time.end.getTime() - time.start.getTime();
  if (time.following) {
    const whole = length <= HOUR ? DAY : length <= DAY ? 4 * DAY : length <= 30 * DAY ? 35 * DAY : 400 * DAY;
    return [time.end.getTime() - whole, time.end.getTime()];
  }
  const margin = Math.max(6 * HOUR, length * 1.5);
  const end = Math.min(Math.ceil(Date.now() / 60_000) * 60_000, time.end.getTime() + margin);
  return [time.start.getTime() - margin, end];
}

/** Where labels stand: on whole steps of local time. */
function ticks(start: number, end: number, width: number): [number, string][] {
  const steps = [1, 2, 3, 6, 12, 24, 48, 96, 168, 336, 672, 1344].map((hours) => hours * HOUR);
  const step = steps.find((each) => ((end - start) / each) * 74 < width) ?? 112 * DAY;
  const zone = new Date(start).getTimezoneOffset() * 60_000;
  const found: [number, string][] = [];
  for (let at = Math.ceil((start - zone) / step) * step + zone; at < end; at += step) {
    const time = new Date(at);
    const date = step > 4 * DAY ? `${time.getDate()} ${month(time)}` : day(time);
    found.push([at, step >= DAY || time.getHours() === 0 ? date : clock(time)]);
  }
  return found;
}

/** The time that governs the screen: alarms over the period, the range that is shown, now. Drag to choose a range. */
export function TimeStrip({ time }: { time: ScreenTime }) {
  const { show, follow } = useSetScreenTime();
  const box = useRef<HTMLDivElement>(null);
  const { width } = useSize(box);
  const [drag, setDrag] = useState<[number, number] | null>(null);
  const [start, end] = period(time);
  const buckets = Math.max(24, Math.min(160, Math.floor(width / 11.5)));
  const range = useMemo(
    () => ({ start: new Date(start).toISOString(), end: new Date(end).toISOString() }),
    [start, end],
  );
  const { data } = useQuery({ ...timelineQuery(range, buckets), enabled: width > 0 });
  const x = (at: number) => ((at - start) / (end - start)) * width;
  const at = (event: PointerEvent) => {
    const left = box.current?.getBoundingClientRect().left ?? 0;
    return start + (Math.min(width, Math.max(0, event.clientX - left)) / width) * (end - start);
  };
  const release = () => {
    if (!drag) return;
    const [from, to] = [Math.min(...drag), Math.max(...drag)];
    setDrag(null);
    // A click without a drag shows the same length of time around it.
    const half = (time.end.getTime() - time.start.getTime()) / 2;
    const [first, last] = to - from > (end - start) / 200 ? [from, to] : [from - half, from + half];
    show(new Date(first), new Date(last));
  };
  const shown = drag ? [Math.min(...drag), Math.max(...drag)] : [time.start.getTime(), time.end.getTime()];
  const most = Math.max(4, ...(data ?? []).map((bucket) => bucket.count));
  const left = Math.max(0, x(shown[0] ?? start));
  const right = Math.min(width, x(shown[1] ?? end));
  return (
    <section aria-label="Time" className="flex gap-3.5 border-b border-rule px-4">
      <div className="w-[226px] shrink-0 pt-[6px] leading-[1.3]">
        <b className="block font-semibold whitespace-nowrap">
          {time.following ? "Following now" : rangeText(time.start, time.end)}
        </b>
        <span className="flex items-center gap-1 text-tiny text-ink2">
          {time.following ? (
            SPANS.map(([name, label]) => (
              <button
                key={name}
                type="button"
                aria-pressed={time.span === name}
                onClick={() => follow(name)}
                className={`h-6 min-w-6 px-0.5 ${time.span === name ? "marked" : "hover:text-ink"}`}
              >
                {label}
              </button>
            ))
          ) : (
            <button type="button" className="h-6 text-ink underline" onClick={() => follow()}>
              back to now <kbd className="key no-underline">n</kbd>
            </button>
          )}
          <OwnRange time={time} onChoose={show} />
        </span>
      </div>
      <div
        ref={box}
        className="min-w-0 grow cursor-crosshair touch-none select-none"
        onPointerDown={(event) => {
          event.currentTarget.setPointerCapture(event.pointerId);
          setDrag([at(event), at(event)]);
        }}
        onPointerMove={(event) => drag && setDrag([drag[0], at(event)])}
        onPointerUp={release}
      >
        <svg width={width} height={58} role="img" aria-label="Alarms over time; drag to show a past range">
          <rect x={left} y={TOP} width={Math.max(2, right - left)} height={BASE - TOP} fill="var(--range)" />
          {data?.map((bucket, number) => {
            if (!bucket.count) return null;
            const height = 6 + (bucket.count / most) * 24;
            const slot = width / data.length;
            return (
              <rect
                // biome-ignore lint/suspicious/noArrayIndexKey: buckets have no identity but their place
                key={number}
                x={number * slot}
                y={BASE - height}
                width={Math.max(1, slot - 2)}
                height={height}
                fill={SEVERITIES[bucket.worst]?.colour ?? "var(--ink3)"}
              />
            );
          })}
          <line x1={0} x2={width} y1={BASE + 0.5} y2={BASE + 0.5} stroke="var(--ink)" />
          {ticks(start, end, width).map(([when, label]) => (
            <g key={when}>
              <line x1={x(when)} x2={x(when)} y1={BASE} y2={BASE + 5} stroke="var(--ink2)" />
              {x(when) + LABEL < width && (
                <text x={x(when) + 3} y={BASE + 13} fontSize="10.5" fill="var(--ink2)">
                  {label}
                </text>
              )}
            </g>
          ))}
          {!time.following && (
            <path d={`M${left} 2V${BASE + 4}M${right} 2V${BASE + 4}`} stroke="var(--ink)" strokeWidth="2" />
          )}
          {time.following && <path d={`M${width - 1} 2V${BASE + 6}`} stroke="var(--ink)" strokeWidth="2" />}
        </svg>
      </div>
    </section>
  );
}

const local = (time: Date) => new Date(time.getTime() - time.getTimezoneOffset() * 60_000).toISOString().slice(0, 16);

/** A range of one's own, typed. */
function OwnRange({ time, onChoose }: { time: ScreenTime; onChoose: (start: Date, end: Date) => void }) {
  const [open, setOpen] = useState(false);
  const [wrong, setWrong] = useState("");
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    const [start, end] = [new Date(String(form.get("start"))), new Date(String(form.get("end")))];
    if (!(start < end)) return setWrong("The range ends before it starts.");
    if (start.getTime() > Date.now()) return setWrong("That is in the future.");
    setOpen(false);
    onChoose(start, end);
  };
  return (
    <Popover.Root open={open} onOpenChange={setOpen}>
      <Popover.Trigger className="h-6 min-w-6 hover:text-ink" aria-label="Choose a range">
        …
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content align="start" sideOffset={8} className="z-20 border border-ink bg-sheet p-3 shadow-lg">
          <form className="grid gap-2" onSubmit={submit}>
            <label className="grid gap-1">
              From
              <input name="start" type="datetime-local" required className="field" defaultValue={local(time.start)} />
            </label>
            <label className="grid gap-1">
              To
              <input name="end" type="datetime-local" required className="field" defaultValue={local(time.end)} />
            </label>
            <p role="alert" className="text-critical">
              {wrong}
            </p>
            <button type="submit" className="button justify-self-start">
              Show this range
            </button>
          </form>
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}
