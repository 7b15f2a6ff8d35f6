import { Link, useSearchParams } from "react-router";

type Props = { row: { name: string; filters: Record<string, string> }; next: string };

/** A row by its name, which narrows everything to it; what is left is then put together by something else. */
export function NarrowLink({ row: { name, filters }, next }: Props) {
  const [search] = useSearchParams();
  if (Object.keys(filters).length === 0) return <span className="truncate">{name}</span>;
  const narrowed = new URLSearchParams(search);
  for (const [filter, value] of Object.entries(filters)) narrowed.set(filter, value);
  narrowed.set("by", next);
  return (
    <Link
      className="inline-block truncate leading-6 font-medium hover:underline"
      to={`/traffic?${narrowed}`}
      title={name}
    >
      {name}
    </Link>
  );
}
