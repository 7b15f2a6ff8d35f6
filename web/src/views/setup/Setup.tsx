import { NavLink, useParams } from "react-router";
import { useTimeSearch } from "../../app/screenTime";
import { AddMany } from "./AddMany";
import { AddOne } from "./AddOne";
import { Admission } from "./Admission";
import { Credentials } from "./Credentials";
import { Groups } from "./Groups";
import { Labels } from "./Labels";
import { OwnFields } from "./OwnFields";
import { Profiles } from "./Profiles";
import { Retired } from "./Retired";
import { SelfCheck } from "./SelfCheck";
import { Storage } from "./Storage";
import { Sweeps } from "./Sweeps";

const PARTS = [
  { path: "add", name: "Add a device", View: AddOne },
  { path: "list", name: "Add a list", View: AddMany },
  { path: "sweeps", name: "Sweeps", View: Sweeps },
  { path: "admission", name: "Admission rules", View: Admission },
  { path: "credentials", name: "Credentials", View: Credentials },
  { path: "profiles", name: "Profiles", View: Profiles },
  { path: "labels", name: "Labels and roles", View: Labels },
  { path: "groups", name: "Groups", View: Groups },
  { path: "fields", name: "Own fields", View: OwnFields },
  { path: "retired", name: "Retired devices", View: Retired },
  { path: "storage", name: "Storage", View: Storage },
  { path: "check", name: "Self-check", View: SelfCheck },
];

/** Telling Lumtar what to do: one part at a time, all of them named on the left. */
export function Setup() {
  const { part } = useParams();
  const search = useTimeSearch();
  const { View } = PARTS.find(({ path }) => path === part) ?? (PARTS[0] as (typeof PARTS)[0]);
  return (
    <div className="grid h-full grid-cols-[160px_minmax(0,1fr)] max-md:grid-cols-[minmax(0,1fr)] max-md:grid-rows-[auto_minmax(0,1fr)]">
      <nav aria-label="Parts of the set-up" className="border-r border-rule py-3 max-md:flex max-md:border-b">
        {PARTS.map(({ path, name }) => (
          <NavLink
            key={path}
            data-row
            to={`/setup/${path}${search()}`}
            className={({ isActive }) =>
              `block px-3.5 py-1 ${isActive || (path === "add" && !part) ? "bg-lampsoft font-semibold shadow-[inset_3px_0_var(--lamp)]" : "text-ink2 hover:text-ink"}`
            }
          >
            {name}
          </NavLink>
        ))}
      </nav>
      <div className="min-h-0 overflow-auto px-[18px] pt-3 pb-4">
        <View />
      </div>
    </div>
  );
}
