import type { ReactNode } from "react";
import { Link } from "react-router";
import { useTimeSearch } from "../../app/screenTime";

/** What is listed, and the ways to the other lists. */
const LISTS: [show: string | null, words: string][] = [
  [null, "Active"],
  ["shelved", "Shelved"],
  ["all", "History"],
  ["maintenance", "Maintenance"],
];

/** The heading of the lists of alarms; `active` is what the first one is called at a time in the past. */
export function AlarmsHeading({
  show,
  active = "Active",
  children,
}: {
  show: string | null;
  active?: string;
  children?: ReactNode;
}) {
  const keep = useTimeSearch();
  return (
    <h1 className="heading">
      {LISTS.map(([name, words]) => (
        <Link
          key={words}
          to={`/alarms${keep(name ? { show: name } : undefined)}`}
          className={name === show ? "marked" : "text-ink2 hover:text-ink"}
        >
          {name ? words : active}
        </Link>
      ))}
      {children}
    </h1>
  );
}
