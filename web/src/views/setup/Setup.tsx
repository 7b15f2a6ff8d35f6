import { Suspense } from "react";
import { NavLink, useParams } from "react-router";
import { useTimeSearch } from "../../app/screenTime";
import { useMay } from "../../app/session";
import { GROUPS, PAGES } from "./pages";
import { Start } from "./Start";

/** Telling Lumtar what to do: a start page that says what is set up and what is missing, and one page for each thing. */
export function Setup() {
  const { part } = useParams();
  const search = useTimeSearch();
  const may = useMay();
  const groups = GROUPS.map((group) => ({
    ...group,
    pages: group.pages.filter(({ needs, whole }) => may(needs, whole)),
  })).filter((group) => group.pages.length > 0);
  const wanted = PAGES.find(({ path }) => path === part);
  const shown = groups.flatMap((group) => group.pages).find(({ path }) => path === part);
  const link = (isShown: boolean) =>
    `block px-3.5 py-1 whitespace-nowrap ${isShown ? "bg-lampsoft font-semibold shadow-[inset_3px_0_var(--lamp)]" : "text-ink2 hover:text-ink"}`;
  return (
    <div className="grid h-full grid-cols-[160px_minmax(0,1fr)] max-md:grid-cols-[minmax(0,1fr)] max-md:grid-rows-[auto_minmax(0,1fr)]">
      <nav
        aria-label="Setup pages"
        className="relative min-w-0 overflow-auto border-r border-rule pb-3 max-md:flex max-md:border-r-0 max-md:border-b max-md:pb-0"
      >
        <NavLink data-row end to={`/setup${search()}`} className={`mt-2 max-md:mt-0 ${link(!part)}`}>
          Overview
        </NavLink>
        {groups.map((group) => (
          <div key={group.name} className="max-md:flex">
            <h2 className="px-3.5 pt-2.5 pb-0.5 text-tiny text-ink2 max-md:sr-only">{group.name}</h2>
            {group.pages.map(({ path, name }) => (
              <NavLink key={path} data-row to={`/setup/${path}${search()}`} className={link(path === shown?.path)}>
                {name}
              </NavLink>
            ))}
          </div>
        ))}
      </nav>
      <div className="min-h-0 overflow-auto px-[18px] pt-3 pb-4">
        {!part ? (
          <Start groups={groups} />
        ) : shown ? (
          <Suspense fallback={<p className="text-ink2">Loading …</p>}>
            <shown.View />
          </Suspense>
        ) : (
          <p className="text-ink2">
            {wanted
              ? `${wanted.name} needs the role ${wanted.needs}${wanted.whole ? ", for the whole network" : ""}. An administrator can give it to you.`
              : "There is no such setup page."}
          </p>
        )}
      </div>
    </div>
  );
}
