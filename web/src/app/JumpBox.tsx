import { useQuery } from "@tanstack/react-query";
import { Command } from "cmdk";
import { useDeferredValue, useState } from "react";
import { useNavigate } from "react-router";
import { devicesQuery, portsQuery } from "../api/queries";
import { whereIsQuery } from "../api/topologyQueries";
import { VIEWS } from "../views/manifest";
import { useTimeSearch } from "./screenTime";

type Goal = { path: string; name: string; what: string };

const OF_VIEWS: Goal[] = VIEWS.flatMap(({ goals }) =>
  goals.map(({ address, name }) => ({ path: address, name, what: "view" })),
);

/** What the words lead to: views, devices, ports, end stations. */
function useGoals(words: string, open: boolean): { goals: Goal[]; sought: boolean } {
  const sought = useDeferredValue(words.trim());
  const enough = open && sought.length > 1;
  const { data: devices } = useQuery({ ...devicesQuery(null, { words: sought }), enabled: enough });
  const { data: ports } = useQuery({ ...portsQuery(null, { words: sought, sort: "load" }), enabled: enough });
  // A whole MAC address or address may be that of an end station.
  const isAddress = /^[0-9a-f]{1,4}([:.-][0-9a-f]{0,4}){2,}$/i.test(sought);
  const { data: stations } = useQuery({ ...whereIsQuery(null, sought), enabled: enough && isAddress });
  const views = OF_VIEWS.filter((view) => view.name.toLowerCase().includes(sought.toLowerCase()));
  if (!enough) return { goals: views, sought: false };
  const found = [
    ...(devices?.rows.slice(0, 8) ?? []).map((device) => ({
      path: `/fleet/device/${device.id}`,
      name: device.name,
      what: `${device.address} · ${device.site ?? "no site"}`,
    })),
    ...(ports?.rows.slice(0, 12) ?? []).map((port) => ({
      path: `/fleet/port/${port.id}`,
      name: port.label,
      what: `${port.device} ${port.name}`,
    })),
  ];
  for (const station of (isAddress && stations) || []) {
    const place = station.here ?? station.before[0];
    found.unshift({
      path: `/fleet?list=stations&station=${encodeURIComponent(station.mac)}`,
      name: [station.mac, ...station.addresses].join(" · "),
      what: place ? `${station.here ? "at" : "was at"} ${place.device} ${place.label}` : "not seen at any port",
    });
  }
  return { goals: [...views, ...found], sought: devices !== undefined && ports !== undefined };
}

/** One box to get anywhere: devices and ports by name, address or label, and views. */
export function JumpBox({ open, onOpen }: { open: boolean; onOpen: (open: boolean) => void }) {
  const [words, setWords] = useState("");
  const [wanted, setWanted] = useState("");
  const { goals, sought } = useGoals(words, open);
  const navigate = useNavigate();
  const search = useTimeSearch();
  // What was chosen may have gone from the list as it changed; then Enter means the first.
  const chosen = goals.some((goal) => goal.path === wanted) ? wanted : (goals[0]?.path ?? "");
  const go = (path: string) => {
    onOpen(false);
    setWords("");
    navigate(path.includes("?") ? path : path + search());
  };
  return (
    <>
      <button
        type="button"
        onClick={() => onOpen(true)}
        className="ml-auto flex w-[230px] justify-between rounded border border-rule bg-sheet px-2 py-[3px] text-ink2 max-md:w-9 max-md:justify-center"
      >
        <span className="max-md:sr-only">Jump to a name, address, port</span> <kbd className="key">/</kbd>
      </button>
      <Command.Dialog
        open={open}
        onOpenChange={onOpen}
        shouldFilter={false}
        value={chosen}
        onValueChange={setWanted}
        label="Jump"
        overlayClassName="fixed inset-0 z-10 bg-ink/20"
        contentClassName="fixed top-16 left-1/2 z-20 w-[560px] max-w-[94vw] -translate-x-1/2 border border-ink bg-sheet shadow-lg"
      >
        <Command.Input
          value={words}
          onValueChange={setWords}
          placeholder="A name, address, MAC address, port label, or a view"
          className="w-full border-b border-rule bg-transparent px-3 py-2 text-large outline-none"
        />
        <Command.List className="max-h-[60vh] overflow-auto py-1">
          {sought && goals.length === 0 && (
            <p className="px-3 py-2 text-ink2">No match. Part of a name or of an address is enough.</p>
          )}
          {goals.map((goal) => (
            <Command.Item
              key={goal.path}
              value={goal.path}
              onSelect={() => go(goal.path)}
              className="flex cursor-pointer justify-between gap-4 px-3 py-1 data-[selected=true]:bg-lampsoft data-[selected=true]:shadow-[inset_3px_0_var(--lamp)]"
            >
              <span className="truncate">{goal.name}</span> <span className="shrink-0 text-ink2">{goal.what}</span>
            </Command.Item>
          ))}
        </Command.List>
      </Command.Dialog>
    </>
  );
}
