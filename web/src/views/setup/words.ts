/** Text of forms to values of the API, and back. */

export const tagText = (tags: Record<string, string>) =>
  Object.entries(tags)
    .map(([key, value]) => `${key}=${value}`)
    .join("; ");

export const pieces = (text: string) =>
  text
    .split(";")
    .map((part) => part.trim())
    .filter(Boolean);

export const tagsOf = (text: string): Record<string, string> =>
  Object.fromEntries(
    pieces(text).map((tag) => {
      const [key = "", ...rest] = tag.split("=");
      return [key.trim(), rest.join("=").trim()];
    }),
  );

/** How often, in words. */
export const EVERY: [string, number][] = [
  ["only by hand", 0],
  ["every hour", 3600],
  ["every 6 hours", 21_600],
  ["every day", 86_400],
  ["every week", 604_800],
];

export function everyWords(seconds: number): string {
  return EVERY.find(([, value]) => value === seconds)?.[0] ?? `every ${Math.round(seconds / 60)} min`;
}
