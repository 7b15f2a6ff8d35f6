import { useQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import { gridQuery } from "../../api/queries";
import { useScreenTime } from "../../app/screenTime";
import { usePlace } from "../../app/usePlace";
import { useSetSearch } from "../../app/useSetSearch";
import { range as rangeText } from "../../components/format";
import { InlineChoice } from "../../components/InlineChoice";
import { InlineToggles } from "../../components/InlineToggles";
import { Problem } from "../../components/Problem";
import { ERROR_STEPS, LOAD_STEPS } from "../../components/ramp";
import { type By, Cells } from "./Cells";
import type { Order } from "./cellLayout";
import { ListHead } from "./ListHead";
import { ROLE_CHOICES } from "./roles";
import { useTrail } from "./trail";

const BY: [By, string][] = [
  ["load", "mean load"],
  ["peak", "highest load"],
  ["errors", "errors"],
  ["state", "state"],
];

/** Every port of a site, or of everything, as a cell; devices one under the other. */
export function PortGrid() {
  const { place, name } = usePlace();
  const [search] = useSearchParams();
  const time = useScreenTime();
  const trail = useTrail();
  const set = useSetSearch();
  const by = BY.find(([name]) => name === search.get("by"))?.[0] ?? "load";
  const order: Order = search.get("order") === "box" ? "box" : "index";
  const whole = search.get("over") === "range";
  const role = search.get("role") ?? "any";
  const filter = {
    by: by === "state" ? ("load" as const) : by,
    ...place,
    ...(role === "any" ? {} : { role }),
    words: search.get("words") ?? "",
  };
  const { data, error } = useQuery(gridQuery(time.at, whole ? time.range : null, filter));
  const ports = data?.devices.reduce((sum, device) => sum + device.ids.length, 0) ?? 0;
  let heading = "";
  return (
    <div className="flex h-full flex-col">
      <ListHead title={name || "All ports"} count={data ? `${ports.toLocaleString("en")} ports` : ""} list="grid" />
      <div className="flex flex-wrap items-center gap-x-4 gap-y-1 border-b border-rule px-3.5 py-1 text-small">
        <InlineToggles
          label="Colour by"
          value={by}
          options={BY}
          onChoose={(name) => set({ by: name === "load" ? "" : name })}
        />
        <InlineChoice
          label="over"
          value={whole ? "range" : ""}
          options={[
            ["", time.following ? "the last hour" : "the hour before"],
            ["range", "the time shown"],
          ]}
          onChoose={(over) => set({ over })}
        />
        <InlineChoice
          label="role"
          value={role}
          options={ROLE_CHOICES}
          onChoose={(each) => set({ role: each === "any" ? "" : each })}
        />
        <InlineChoice
          label="sort by"
          value={order}
          options={[
            ["index", "ifIndex"],
            ["box", "place on the device"],
          ]}
          onChoose={(each) => set({ order: each === "box" ? "box" : "" })}
        />
        {data && <span className="ml-auto text-ink2">{rangeText(new Date(data.start), new Date(data.end))}</span>}
      </div>
      <Legend by={by} />
      <Problem error={error} />
      {ports === 0 && data && (
        <p className="px-3.5 py-2 text-ink2">No matching ports. Clear the search and the role to see all.</p>
      )}
      <div className="min-h-0 grow overflow-auto px-3.5 pb-4">
        {data?.devices.map((device) => {
          const isFirst = device.site !== heading;
          heading = device.site;
          return (
            <div key={device.id}>
              {isFirst && !place.site && <h3 className="pt-2 text-small font-semibold">{device.site}</h3>}
              <div className="grid grid-cols-[118px_minmax(0,1fr)] items-start gap-2 py-[3px]">
                <Link className="truncate text-small hover:underline" to={trail.thing("device", device.id)}>
                  {device.name}
                </Link>
                <Cells device={device} by={by} order={order} />
              </div>
            </div>
          );
        })}
      </div>
    </div>
  );
}

/** What the cells mean, in words. */
export function Legend({ by }: { by: By }) {
  const steps = by === "errors" ? ERROR_STEPS : LOAD_STEPS;
  const box = "mr-1 inline-block size-[11px] align-[-1px]";
  return (
    <p className="flex flex-wrap gap-x-3.5 px-3.5 py-1 text-tiny text-ink2">
      {by === "state" ? (
        <span>
          <i className={`${box} bg-ink2`} />
          up
        </span>
      ) : (
        steps.map((words, step) => (
          <span key={words}>
            <i className={box} style={{ background: `var(--load${step})` }} />
            {words}
          </span>
        ))
      )}
      <span>
        <i className={`${box} border border-ink`} />
        down, though in use before
      </span>
      <span>
        <i className={`${box} border border-rule`} />
        not in use, or nothing measured
      </span>
      <span>
        <i
          className={box}
          style={{ background: "repeating-linear-gradient(135deg, var(--critical) 0 1.4px, transparent 1.4px 4px)" }}
        />
        no answer
      </span>
    </p>
  );
}
