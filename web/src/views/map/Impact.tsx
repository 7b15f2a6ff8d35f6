import { useQuery } from "@tanstack/react-query";
import { type Failing, impactQuery } from "../../api/topologyQueries";
import { counted } from "../../components/format";

/** What would be cut off, or lose its second way. */
export function Impact({ question, title = "If it fails" }: { question: Failing; title?: string }) {
  const { data } = useQuery(impactQuery(question));
  if (!data) return null;
  const ports = data.cut_off.reduce((sum, each) => sum + each.ports_up, 0);
  return (
    <section aria-label={title}>
      <h3 className="heading mt-3">{title}</h3>
      <p className="py-[3px]">
        {data.cut_off.length > 0 ? (
          <>
            <b className="font-semibold">
              {counted(data.cut_off.length, "device")}, {counted(ports, "port")} in use
            </b>{" "}
            would be cut off: {namesOf(data.cut_off)}.
          </>
        ) : (
          "Nothing would be cut off."
        )}{" "}
        {data.one_way_left.length > 0 &&
          `${counted(data.one_way_left.length, "device")} would have one way left: ${namesOf(data.one_way_left)}.`}
      </p>
    </section>
  );
}

const NAMED = 8;

function namesOf(hits: { name: string }[]): string {
  const more = hits.length - NAMED;
  return `${hits
    .slice(0, NAMED)
    .map(({ name }) => name)
    .join(", ")}${more > 0 ? ` and ${more} more` : ""}`;
}
