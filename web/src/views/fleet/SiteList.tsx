import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { useTrail } from "./trail";

/** The name under which devices without a site are found. */
const NO_SITE = "No site";

/** All sites with their ports; the first column of the trail. */
export function SiteList({ sites, chosen }: { sites: Schemas["SiteOut"][]; chosen: string }) {
  const trail = useTrail();
  const total = sites.reduce((sum, site) => sum + site.ports, 0);
  const rows = [
    { name: "", label: "Everywhere", ports: total },
    ...sites.map((site) => ({ ...site, name: site.name || NO_SITE, label: site.name || NO_SITE })),
  ];
  return (
    <nav aria-label="Sites" className="min-h-0 overflow-auto border-r border-rule pt-3 max-lg:hidden">
      <h2 className="mx-3.5 mb-1.5 flex justify-between text-[12px] font-semibold">
        Sites <span className="font-normal text-ink2">{sites.length}</span>
      </h2>
      {rows.map((site) => (
        <Link
          key={site.label}
          to={trail.site(site.name)}
          className={`figures flex justify-between px-3.5 py-[3.5px] ${site.name === chosen ? "bg-lampsoft font-semibold shadow-[inset_3px_0_var(--lamp)]" : "hover:bg-lampsoft"}`}
        >
          {site.label} <span className="font-normal text-ink2">{site.ports}</span>
        </Link>
      ))}
    </nav>
  );
}
