import { Link } from "react-router";
import { useScreenTime } from "../../app/screenTime";
import { usePicked } from "./picked";
import { useTrail } from "./trail";

/** What can be done with the ports that were chosen; nothing while none is. */
export function Picked({ list }: { list: string }) {
  const { picked, clear } = usePicked();
  const { range } = useScreenTime();
  const trail = useTrail();
  if (picked.length === 0) return null;
  const to = (list: string | null) => trail.list({ list, device: null });
  const download = `/api/v1/export/readings?interfaces=${picked.join("&interfaces=")}&format=csv&start=${range.start}&end=${range.end}`;
  return (
    <p className="mt-1 flex flex-wrap gap-x-3 text-[12px] leading-6" role="status">
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
      <button type="button" className="underline" onClick={clear}>
        none of them
      </button>
    </p>
  );
}
