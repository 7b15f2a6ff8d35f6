const two = (value: number) => String(value).padStart(2, "0");

/** A time as a field for date and time takes it: the clock on the wall here. */
export const wallClock = (at: Date) =>
  `${at.getFullYear()}-${two(at.getMonth() + 1)}-${two(at.getDate())}T${two(at.getHours())}:${two(at.getMinutes())}`;

/** What such a field says, as the API takes it; empty while it is not complete. */
export function instant(typed: string): string {
  const at = new Date(typed);
  return Number.isNaN(at.getTime()) ? "" : at.toISOString();
}
