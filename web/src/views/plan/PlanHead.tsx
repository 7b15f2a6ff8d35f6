import { useQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import { groupsQuery, sitesQuery } from "../../api/queries";
import { useTimeSearch } from "../../app/screenTime";
import { usePlace } from "../../app/usePlace";
import { useSetSearch } from "../../app/useSetSearch";
import { InlineChoice } from "../../components/InlineChoice";

/** The parts of Plan, and what the one that is shown holds. */
export function PlanHead({ words }: { words: string | undefined }) {
  const [search] = useSearchParams();
  const keep = useTimeSearch();
  const full = search.get("show") === "full";
  const mark = (on: boolean) => (on ? "marked" : "font-normal text-ink2 hover:text-ink");
  return (
    <h1 className="heading text-body">
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

/** One site, one group, or all. */
export function PlaceChoice() {
  const { place } = usePlace();
  const set = useSetSearch();
  const { data: sites } = useQuery(sitesQuery);
  const { data: groups } = useQuery(groupsQuery);
  const options = [
    ["", "everywhere"] as const,
    ...(sites ?? []).map((each) => [`site ${each.name}`, each.name] as const),
    ...(groups?.rows ?? []).map((each) => [`group ${each.id}`, `group ${each.name}`] as const),
  ];
  const value = place.group ? `group ${place.group}` : place.site ? `site ${place.site}` : "";
  const choose = (chosen: string) => {
    const [kind, ...name] = chosen.split(" ");
    set({ site: "", group: "", ...(kind ? { [kind]: name.join(" ") } : {}) });
  };
  return <InlineChoice className="ml-auto" label="site or group" value={value} options={options} onChoose={choose} />;
}
