import { useQuery } from "@tanstack/react-query";
import { routesQuery } from "../../api/pathQueries";
import { useScreenTime } from "../../app/screenTime";
import { counted, moment } from "../../components/format";

/** The routes of a path within the screen's time: the last one, and those before it. */
export function TracedRoutes({ path }: { path: number }) {
  const time = useScreenTime();
  const { data } = useQuery(routesQuery(path, time.range));
  if (!data) return null;
  return (
    <>
      <h2 className="heading mt-2">
        Route{" "}
        <span className="font-normal text-ink2">
          {data.length > 1 ? `${counted(data.length - 1, "change")} in this time` : "traced once a minute"}
        </span>
      </h2>
      {data.length === 0 && <p className="py-1 text-ink2">No hop has answered yet.</p>}
      <ul className="figures text-small">
        {data.map(({ hops, since }, place) => (
          <li key={since} className="flex flex-wrap gap-x-3 border-b border-faint py-[3px]">
            <span className="text-ink2">since {moment(new Date(since))}</span>
            <span className={place === 0 ? "" : "text-ink2"}>{hops.map((hop) => hop || "?").join(" → ")}</span>
          </li>
        ))}
      </ul>
    </>
  );
}
