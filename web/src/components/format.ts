/** Figures and times as text; the one place for it. */

export type Figure = { figure: string; unit: string };

const STEPS: [number, string][] = [
  [1e12, "T"],
  [1e9, "G"],
  [1e6, "M"],
  [1e3, "k"],
];

function scaled(value: number, unit: string): Figure {
  const step = STEPS.find(([size]) => Math.abs(value) >= size);
  const shown = step ? value / step[0] : value;
  const digits = shown === 0 || Math.abs(shown) >= 100 ? 0 : 1;
  return { figure: shown.toFixed(digits), unit: `${step?.[1] ?? ""}${unit}` };
}

/** A rate: 1 k is 1,000. */
export const rate = (bps: number) => scaled(bps, "b/s");

/** A rate in bytes. */
export const bytesRate = (value: number) => scaled(value, "B/s");

/** A rate in packets. */
export const packets = (value: number) => scaled(value, "p/s");

/** A number of things, shortened. */
export const count = (value: number) => scaled(value, "");

/** A volume in bytes. */
export const volume = (octets: number) => scaled(octets, "B");

/** How long somebody waits, in milliseconds or seconds. */
export function wait(ms: number): string {
  if (ms >= 999.5) return `${(ms / 1000).toFixed(ms < 9950 ? 1 : 0)} s`;
  return `${ms.toFixed(ms < 9.95 ? 1 : 0)} ms`;
}

export const text = ({ figure, unit }: Figure) => `${figure} ${unit}`;

export function percent(value: number | null | undefined): string {
  if (value == null) return "–";
  if (value > 0 && value < 0.05) return value.toPrecision(1);
  return value > 0 && value < 10 ? value.toFixed(1) : value.toFixed(0);
}

/** Per second, small numbers included. */
export const perSecond = (value: number) => (value >= 10 ? value.toFixed(0) : value.toPrecision(2));

/** A length of time in its largest fitting unit. */
export function duration(seconds: number): string {
  const units: [number, string][] = [
    [86400, "d"],
    [3600, "h"],
    [60, "min"],
  ];
  for (const [size, name] of units) if (seconds >= size) return `${Math.floor(seconds / size)} ${name}`;
  return `${Math.max(0, Math.floor(seconds))} s`;
}

/** What a component shows, by its unit: rates and ages in steps that can be read. */
export function reading(value: number, unit: string, digits = 1): string {
  if (unit === "bit/s") return text(rate(value));
  if (unit === "s") return duration(value);
  return `${value.toFixed(digits)} ${unit}`.trim();
}

const two = (value: number) => String(value).padStart(2, "0");
const DAYS = ["Sun", "Mon", "Tue", "Wed", "Thu", "Fri", "Sat"];

export function clock(time: Date, seconds = false): string {
  return `${two(time.getHours())}:${two(time.getMinutes())}${seconds ? `:${two(time.getSeconds())}` : ""}`;
}

export const day = (time: Date) => `${DAYS[time.getDay()]} ${time.getDate()}`;

/** A time as short as it can be understood: the clock today, the day with it otherwise. */
export function moment(time: Date, now = new Date()): string {
  const today = time.toDateString() === now.toDateString();
  const near = Math.abs(now.getTime() - time.getTime()) < 6 * 86400_000;
  if (today) return clock(time);
  return near ? `${day(time)} ${clock(time)}` : `${time.getDate()} ${month(time)} ${clock(time)}`;
}

const MONTHS = "Jan Feb Mar Apr May Jun Jul Aug Sep Oct Nov Dec".split(" ");
export const month = (time: Date) => MONTHS[time.getMonth()] ?? "";

/** A day in another year is told with it: 3 Mar, 3 Mar 2028. */
export function date(iso: string, now = new Date()): string {
  const [year, number, day] = iso.split("-").map(Number);
  const name = `${day} ${MONTHS[(number ?? 1) - 1]}`;
  return year === now.getFullYear() ? name : `${name} ${year}`;
}

/** A range for a heading. */
export function range(start: Date, end: Date): string {
  const same = start.toDateString() === end.toDateString();
  const long = end.getTime() - start.getTime() > 6 * 86400_000;
  const name = (time: Date) => (long ? `${time.getDate()} ${month(time)}` : day(time));
  return same
    ? `${name(start)} ${clock(start)} – ${clock(end)}`
    : `${name(start)} ${clock(start)} – ${name(end)} ${clock(end)}`;
}

/** A number with its noun. */
export const counted = (number: number, one: string) =>
  `${number.toLocaleString("en-GB")} ${number === 1 ? one : many(one)}`;
const many = (one: string) =>
  one.endsWith("s") ? `${one}es` : /[^aeiou]y$/.test(one) ? `${one.slice(0, -1)}ies` : `${one}s`;
