import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { useTimeSearch } from "../../app/screenTime";
import { loadStep } from "../../components/ramp";
import { SEVERITIES } from "../../components/severities";

const RAMP = [0, 1, 2, 3, 4];
/** More sites than this do not fit a screen: those in trouble come first then. Fewer keep their places. */
const FITTING = 60;

function cellStyle(load: number) {
  if (load === -1) return { background: "transparent", boxShadow: "inset 0 0 0 1px var(--faint)" };
  if (load === -2) return { background: "transparent", boxShadow: "inset 0 0 0 1px var(--ink3)" };
  if (load === -3)
    return { background: "repeating-linear-gradient(135deg, var(--critical) 0 1px, transparent 1px 3px)" };
  return { background: `var(--load${loadStep(load)})` };
}

/** Every port of every site as a cell. */
export function Sites({ sites }: { sites: Schemas["NowOut"]["sites"] }) {
  const search = useTimeSearch();
  const isCrowded = sites.length > FITTING;
  const ordered = isCrowded ? sites.toSorted((one, other) => other.severity - one.severity) : sites;
  return (
    <>
      <h2 className="heading mt-3.5 flex-wrap">
        Sites{" "}
        <span className="font-normal text-ink2">
          every port, its load{isCrowded && `; ${sites.length} sites, those in trouble first`}
        </span>
        <span className="ml-auto flex items-center gap-1 font-normal whitespace-nowrap text-ink2">
          0
          {RAMP.map((level) => (
            <i key={level} className="h-2 w-3" style={{ background: `var(--load${level})` }} />
          ))}
          100 %
          <i className="ml-2 h-[7px] w-[5px]" style={cellStyle(-2)} /> down
          <i className="ml-2 h-[7px] w-[9px]" style={cellStyle(-3)} /> no answer
        </span>
      </h2>
      <div className="grid grid-cols-[repeat(auto-fill,minmax(62px,1fr))] items-start gap-1">
        {ordered.map((site) => (
          <Link
            key={site.name}
            to={`/fleet${search({ site: site.name })}`}
            className="border-t-2 pt-[3px] hover:bg-lampsoft"
            style={{
              gridColumn: site.ids.length > 90 ? "span 2" : undefined,
              borderColor: site.severity ? SEVERITIES[site.severity]?.colour : "var(--rule)",
            }}
            title={site.severity ? `${site.name}: ${SEVERITIES[site.severity]?.word}` : site.name}
          >
            <b className="block truncate text-tiny font-medium">{site.name}</b>
            <span className="mt-0.5 flex flex-wrap gap-px">
              {site.ids.map((port, place) => (
                <i key={port} className="h-[7px] w-[5px]" style={cellStyle(site.loads[place] ?? -1)} />
              ))}
            </span>
          </Link>
        ))}
      </div>
    </>
  );
}
