import { NavLink, useParams } from "react-router";
import { useTimeSearch } from "../../app/screenTime";
import { useMay } from "../../app/session";
import { GROUPS } from "./parts";

/** Telling Lumtar what to do: one part at a time, all of them named on the left. */
export function Setup() {
  const { part } = useParams();
  const search = useTimeSearch();
  const may = useMay();
  const groups = GROUPS.map((group) => ({
    ...group,
    parts: group.parts.filter(({ needs, whole }) => may(needs, whole)),
  })).filter((group) => group.parts.length > 0);
  const parts = groups.flatMap((group) => group.parts);
  const wanted = GROUPS.flatMap((group) => group.parts).find(({ path }) => path === part);
  const shown = part ? parts.find(({ path }) => path === part) : parts[0];
  return (
    <div className="grid h-full grid-cols-[160px_minmax(0,1fr)] max-md:grid-cols-[minmax(0,1fr)] max-md:grid-rows-[auto_minmax(0,1fr)]">
      <nav
        aria-label="Parts of the set-up"
        className="min-w-0 overflow-auto border-r border-rule pb-3 max-md:flex max-md:border-r-0 max-md:border-b max-md:pb-0"
      >
        {groups.map((group) => (
          <div key={group.name} className="max-md:flex">
            <h2 className="px-3.5 pt-2.5 pb-0.5 text-[11px] text-ink2 max-md:sr-only">{group.name}</h2>
            {group.parts.map(({ path, name }) => (
              <NavLink
                key={path}
                data-row
                to={`/setup/${path}${search()}`}
                className={`block px-3.5 py-1 whitespace-nowrap ${path === shown?.path ? "bg-lampsoft font-semibold shadow-[inset_3px_0_var(--lamp)]" : "text-ink2 hover:text-ink"}`}
              >
                {name}
              </NavLink>
            ))}
          </div>
        ))}
      </nav>
      <div className="min-h-0 overflow-auto px-[18px] pt-3 pb-4">
        {shown ? (
          <shown.View />
        ) : (
          <p className="text-ink2">
            {wanted
              ? `${wanted.name} needs the role ${wanted.needs}${wanted.whole ? ", for the whole network" : ""}. An administrator can give it to you.`
              : "There is no such part of the set-up."}
          </p>
        )}
      </div>
    </div>
  );
}
