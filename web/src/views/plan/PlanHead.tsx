import { useQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import { sitesQuery } from "../../api/queries";
import { useTimeSearch } from "../../app/screenTime";
import { InlineChoice } from "../../parts/InlineChoice";

/** The parts of Plan, and what the one that is shown holds. */
export function PlanHead({ words }: { words: string | undefined }) {
  const [search] = useSearchParams();
  const keep = useTimeSearch();
  const full = search.get("show") === "full";
  const mark = (on: boolean) => (on ? "marked" : "font-normal text-ink2 hover:text-ink");
  return (
    <h1 className="heading text-[13px]">
      <Link to={`/plan${keep()}`} className={mark(!full)}>
        Top lists
      </Link>
      <Link to={`/plan${keep({ show: "full" })}`} className={mark(full)}>
        What fills up
      </Link>
      <span className="ml-auto font-normal text-ink2">{words}</span>
    </h1>
  );
}

/** One site, or all. */
export function SiteChoice({ site, onChoose }: { site: string; onChoose: (site: string) => void }) {
  const { data: sites } = useQuery(sitesQuery);
  const options = [["", "all"] as const, ...(sites ?? []).map((each) => [each.name, each.name] as const)];
  return <InlineChoice className="ml-auto" label="site" value={site} options={options} onChoose={onChoose} />;
}
