import { useQuery } from "@tanstack/react-query";
import { useNavigate } from "react-router";
import { useLive } from "../../api/live";
import { nowQuery } from "../../api/queries";
import { useKeys } from "../../app/keys";
import { useWorst } from "../../app/useWorst";
import { clock, duration } from "../../components/format";
import { Problem } from "../../components/Problem";
import { Severity } from "../../components/Severity";
import { SEVERITIES } from "../../components/severities";
import { useClock } from "../../components/useClock";
import { Sites } from "./Sites";

const SHOWN = 9;

/** Now on a wall: read from across a room, without controls. Escape goes back. */
export function Wall() {
  const { data, error } = useQuery(nowQuery(null));
  const at = useClock();
  const navigate = useNavigate();
  useLive(true);
  useWorst();
  useKeys({ Escape: () => navigate("/") });
  if (!data) return <Problem error={error} />;
  const counts = SEVERITIES.map((_, level) => data.causes.filter(({ row }) => row.severity === level).length);
  return (
    <main className="grid h-full grid-rows-[auto_minmax(0,1fr)_auto] gap-[1.6vh] overflow-hidden p-[2vw]">
      <header className="flex items-start gap-[2vw]">
        <h1 className="flex-1 text-[2.7vw] leading-tight tracking-tight">
          <b className="font-semibold">{data.headline.strong}</b>
          {data.headline.rest}
        </h1>
        <time className="figures text-[3.4vw] leading-none">{clock(new Date(at))}</time>
      </header>
      <section aria-label="Active alarms" className="overflow-hidden">
        <p className="mb-[1vh] flex gap-[2vw] border-b border-ink pb-[0.8vh] text-[1.7vw]">
          {[5, 4, 3, 2].map((level) => (
            <span key={level} className={counts[level] ? "" : "text-ink2"}>
              <b className="figures font-semibold">{counts[level]}</b> {SEVERITIES[level]?.word}
            </span>
          ))}
        </p>
        {data.causes.slice(0, SHOWN).map(({ row }) => (
          <p
            key={row.id}
            className="grid grid-cols-[2.4vw_minmax(0,1fr)_7vw] items-center gap-[1vw] border-b border-faint py-[0.6vh] text-[1.7vw]"
          >
            <Severity level={row.severity} size="1.6vw" />
            <span className="truncate">
              <b className="font-semibold">{row.label}</b> <span className="text-ink2">{row.text}</span>
              {row.acknowledged_by && <span> · {row.acknowledged_by}</span>}
            </span>
            <span className="figures text-right">{duration((at - Date.parse(row.raised_at)) / 1000)}</span>
          </p>
        ))}
        {data.causes.length === 0 && <p className="text-[1.7vw] text-ink2">No active alarms.</p>}
      </section>
      <Sites sites={data.sites} />
    </main>
  );
}
