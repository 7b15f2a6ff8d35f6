import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "react-router";
import { client, got } from "../../api/client";
import { groupsQuery } from "../../api/queries";
import { useScreenTime } from "../../app/screenTime";
import { usePlace } from "../../app/usePlace";
import { InlineChoice } from "../../components/InlineChoice";
import { usePicked } from "./picked";
import { useTrail } from "./trail";

/** What can be done with the ports that were chosen; nothing while none is. */
export function Picked({ list }: { list: string }) {
  const { picked, clear } = usePicked();
  const { range } = useScreenTime();
  const trail = useTrail();
  const queries = useQueryClient();
  const { place } = usePlace();
  const { data: groups } = useQuery({ ...groupsQuery, enabled: picked.length > 0 });
  const inGroup = groups?.rows.find((each) => each.id === place.group && each.ports_by_hand > 0);
  const put = useMutation({
    mutationFn: async ({ group, out }: { group: number; out: boolean }) => {
      const path = { params: { path: { group } }, body: { ports: picked, out } };
      const { ports } = await got(client.POST("/api/v1/groups/{group}/ports", path));
      return { ports, name: groups?.rows.find((each) => each.id === group)?.name ?? "" };
    },
    onSuccess: () => queries.invalidateQueries(),
  });
  if (picked.length === 0) return null;
  const to = (list: string | null) => trail.list({ list, device: null });
  const download = `/api/v1/export/readings?interfaces=${picked.join("&interfaces=")}&format=csv&start=${range.start}&end=${range.end}`;
  return (
    <p className="mt-1 flex flex-wrap gap-x-3 text-small leading-6" role="status">
      <span>
        {picked.length} {picked.length === 1 ? "port" : "ports"} chosen:
      </span>
      {list !== "total" && (
        <Link className="underline" to={to("total")}>
          on one chart
        </Link>
      )}
      {list !== "live" && (
        <Link className="underline" to={to("live")}>
          live
        </Link>
      )}
      {list !== "ports" && (
        <Link className="underline" to={to(null)}>
          choose others
        </Link>
      )}
      <a className="underline" href={download}>
        CSV
      </a>
      {groups && groups.rows.length > 0 && (
        <InlineChoice
          label="add to group"
          value=""
          options={[["", "a group …"], ...groups.rows.map((each) => [String(each.id), each.name] as const)]}
          onChoose={(group) => group && put.mutate({ group: Number(group), out: false })}
        />
      )}
      {inGroup && (
        <button type="button" className="h-6 underline" onClick={() => put.mutate({ group: inGroup.id, out: true })}>
          take out of {inGroup.name}
        </button>
      )}
      {put.error && <span className="text-critical">{put.error.message}</span>}
      {put.data && (
        <span>
          {put.data.name} has {put.data.ports} by hand now.
        </span>
      )}
      <button type="button" className="underline" onClick={clear}>
        None of them
      </button>
    </p>
  );
}
