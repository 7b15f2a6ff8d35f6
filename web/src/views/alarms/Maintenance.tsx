import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useSearchParams } from "react-router";
import type { Schemas } from "../../api/client";
import { maintenanceQuery } from "../../api/queries";
import { useMay } from "../../app/session";
import { moment } from "../../components/format";
import { Problem } from "../../components/Problem";
import { AlarmsHeading } from "./AlarmsHeading";
import { MaintenanceCalendar } from "./MaintenanceCalendar";
import { MaintenanceForm } from "./MaintenanceForm";
import { repeatWords } from "./maintenanceDraft";

type Row = Schemas["MaintenanceOut"];

/** What maintenance is planned: four weeks of it, all of it, and one that is made or changed. */
export function Maintenance() {
  const { data, error } = useQuery(maintenanceQuery);
  const [search] = useSearchParams();
  const device = search.get("device");
  const port = search.get("port");
  const [open, setOpen] = useState<number | "new" | null>(device || port ? "new" : null);
  const mayPlan = useMay()("operator", true);
  const stored = data?.find(({ id }) => id === open);
  return (
    <div className="grid h-full grid-cols-[minmax(0,1fr)_400px] max-lg:h-auto max-lg:grid-cols-1">
      <section className="min-h-0 overflow-auto px-4 pt-3">
        <AlarmsHeading show="maintenance" />
        <Problem error={error} />
        <MaintenanceCalendar open={typeof open === "number" ? open : null} onOpen={setOpen} />
        <h2 className="heading mt-4">Planned</h2>
        {data?.length === 0 && (
          <p className="py-2 text-ink2">
            No maintenance is planned. While one goes on, alarms of what it is about are recorded and nobody is called;
            what is still active at its end is called then.
          </p>
        )}
        <ul>
          {data?.map((row) => (
            <Line key={row.id} row={row} isOpen={row.id === open} onOpen={() => setOpen(row.id)} />
          ))}
        </ul>
      </section>
      <aside className="min-h-0 overflow-auto border-l border-rule px-4 pt-3 pb-4 max-lg:border-l-0">
        {mayPlan && open !== null && (open === "new" || stored) ? (
          <MaintenanceForm
            key={stored ? `${stored.id} ${stored.edition}` : "new"}
            stored={stored}
            of={stored ? {} : { device: Number(device) || null, port: Number(port) || null }}
            onDone={() => setOpen(null)}
          />
        ) : (
          mayPlan && (
            <button type="button" className="button" onClick={() => setOpen("new")}>
              Plan maintenance
            </button>
          )
        )}
      </aside>
    </div>
  );
}

function Line({ row, isOpen, onOpen }: { row: Row; isOpen: boolean; onOpen: () => void }) {
  return (
    <li
      className={`grid grid-cols-[minmax(0,1fr)_auto] items-baseline gap-2 border-b border-faint px-1.5 py-1.5 ${isOpen ? "bg-lampsoft shadow-[inset_3px_0_var(--lamp)]" : ""}`}
    >
      <div className="min-w-0">
        <button type="button" data-row className="font-semibold hover:underline" onClick={onOpen}>
          {row.name}
        </button>
        <p className="truncate text-small text-ink2">
          {row.about.join(", ") || "about nothing any more"}
          {row.reason && ` · ${row.reason}`}
        </p>
      </div>
      <span className="figures text-right text-ink2">
        {row.is_running && row.next_end ? (
          <b className="font-semibold text-ink">now, until {moment(new Date(row.next_end))}</b>
        ) : row.next_start ? (
          moment(new Date(row.next_start))
        ) : (
          "over"
        )}
        {row.repeats && <span className="block text-small">{repeatWords(row.repeats)}</span>}
      </span>
    </li>
  );
}
