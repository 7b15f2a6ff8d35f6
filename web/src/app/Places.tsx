import { DropdownMenu } from "radix-ui";
import { NavLink, useLocation, useNavigate } from "react-router";
import { VIEWS } from "../views/manifest";
import { useTimeSearch } from "./screenTime";

/** The views, side by side; a menu on a narrow screen. */
export function Places() {
  const search = useTimeSearch();
  const { pathname } = useLocation();
  const navigate = useNavigate();
  const here = VIEWS.find(({ paths: [path] }) => (path === "/" ? pathname === "/" : pathname.startsWith(path)));
  return (
    <nav className="ml-6 max-md:ml-2" aria-label="Places">
      <span className="flex gap-0.5 max-md:hidden">
        {VIEWS.map(({ paths: [path], name }) => (
          <NavLink
            key={path}
            to={path + search()}
            end={path === "/"}
            className={({ isActive }) => `px-2.5 py-1 ${isActive ? "marked" : "text-ink2 hover:text-ink"}`}
          >
            {name}
          </NavLink>
        ))}
      </span>
      <DropdownMenu.Root>
        <DropdownMenu.Trigger className="px-1.5 py-1 md:hidden">
          <span className="marked">{here?.name ?? "Places"}</span> <span aria-hidden>▾</span>
        </DropdownMenu.Trigger>
        <DropdownMenu.Portal>
          <DropdownMenu.Content
            align="start"
            sideOffset={6}
            className="z-20 min-w-36 border border-ink bg-sheet py-1 shadow-lg"
          >
            {VIEWS.map(({ paths: [path], name }) => (
              <DropdownMenu.Item
                key={path}
                className="cursor-pointer px-3 py-2 outline-none data-[highlighted]:bg-lampsoft"
                onSelect={() => navigate(path + search())}
              >
                {name}
              </DropdownMenu.Item>
            ))}
          </DropdownMenu.Content>
        </DropdownMenu.Portal>
      </DropdownMenu.Root>
    </nav>
  );
}
