import { useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { groupsQuery, type Place } from "../../api/queries";
import { useTrail } from "./trail";

/** The name under which devices without a site are found. */
const NO_SITE = "No site";

/** All sites and groups with their ports; the first column of the trail. */
export function SiteList({ sites, chosen }: { sites: Schemas["SiteOut"][]; chosen: Place }) {
  const trail = useTrail();
  const { data: groups } = useQuery(groupsQuery);
  const rows = sites.map((site) => ({ ...site, name: site.name || NO_SITE }));
  return (
    <nav aria-label="Sites and groups" className="min-h-0 overflow-auto border-r border-rule pt-3 max-lg:hidden">
      <Entry
        to={trail.site("")}
        isChosen={!chosen.group && !chosen.site}
        name="Everywhere"
        ports={sites.reduce((sum, site) => sum + site.ports, 0)}
      />
      <Heading name="Groups">
        <Link className="underline" to="/setup/groups">
          {groups?.rows.length ? "change" : "make one"}
        </Link>
      </Heading>
      {groups?.rows.map((group) => (
        <Entry
          key={group.id}
          to={trail.group(group.id)}
          isChosen={chosen.group === group.id}
          name={group.name}
          ports={group.ports}
        />
      ))}
      <Heading name="Sites">{sites.length}</Heading>
      {rows.map((site) => (
        <Entry
          key={site.name}
          to={trail.site(site.name)}
          isChosen={!chosen.group && site.name === chosen.site}
          name={site.name}
          ports={site.ports}
        />
      ))}
    </nav>
  );
}

function Entry({ to, isChosen, name, ports }: { to: string; isChosen: boolean; name: string; ports: number }) {
  return (
    <Link
      to={to}
      title={name}
      className={`figures flex justify-between gap-2 px-3.5 py-[3.5px] ${isChosen ? "bg-lampsoft font-semibold shadow-[inset_3px_0_var(--lamp)]" : "hover:bg-lampsoft"}`}
    >
      <span className="truncate">{name}</span>{" "}
      <span className="font-normal text-ink2">{ports.toLocaleString("en")}</span>
    </Link>
  );
}

function Heading({ name, children }: { name: string; children: ReactNode }) {
  return (
    <h2 className="mx-3.5 mt-3 mb-1.5 flex justify-between text-small font-semibold">
      {name} <span className="font-normal text-ink2">{children}</span>
    </h2>
  );
}
