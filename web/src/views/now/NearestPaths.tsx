import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { nearestPathsQuery, type PathMeasure } from "../../api/pathQueries";
import { useTimeSearch } from "../../app/screenTime";
import { shown } from "../paths/pathWords";

/** The paths that are nearest to missing what is promised, or beyond it. */
export function NearestPaths({ at }: { at: string | null }) {
  const { data } = useQuery(nearestPathsQuery(at));
  const search = useTimeSearch();
  if (!data?.length) return null;
  return (
    <>
      <h2 className="heading mt-4">
        Paths nearest to their promise <span className="font-normal text-ink2">the line is the limit</span>
      </h2>
      {data.map(({ id, name, measure, value, limit, share }) => {
        const isBeyond = share === null || share > 1;
        const figure = value === null ? "none" : shown(measure as PathMeasure, value);
        return (
          <Link
            key={id}
            to={`/paths/${id}${search()}`}
            className="grid grid-cols-[minmax(0,1fr)_90px_66px] items-center gap-2 border-b border-dotted border-rule py-1 hover:bg-lampsoft"
            title={`${name}: ${figure}, promised ${shown(measure as PathMeasure, limit)}`}
          >
            <span className="truncate">{name}</span>
            <span aria-hidden className="relative block h-3 bg-track">
              <span
                className={`absolute inset-y-0 left-0 ${isBeyond ? "bg-critical" : "bg-ink"}`}
                style={{ width: `${Math.min(100, 66 * (share ?? 2))}%` }}
              />
              <span className="absolute -inset-y-1 left-[66%] w-[2px] bg-critical" />
            </span>
            <span className={`figures text-right ${isBeyond ? "font-semibold text-critical" : ""}`}>{figure}</span>
          </Link>
        );
      })}
    </>
  );
}
