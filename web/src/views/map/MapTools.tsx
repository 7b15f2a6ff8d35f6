import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useSearchParams } from "react-router";
import { mapPartsQuery } from "../../api/topologyQueries";
import { useSetSearch } from "../../app/useSetSearch";
import { InlineChoice } from "../../components/InlineChoice";
import { InlineToggles } from "../../components/InlineToggles";
import type { By } from "./drawMap";
import type { Node } from "./mapGeometry";

export const BY: readonly (readonly [By, string])[] = [
  ["load", "load"],
  ["errors", "errors"],
  ["state", "state"],
];

/** How the map is shown, from the address. */
export function useMapShow() {
  const [search] = useSearchParams();
  return {
    by: BY.find(([name]) => name === search.get("by"))?.[0] ?? "load",
    site: search.get("site") ?? "",
    devices: search.get("show") === "devices",
    part: search.get("part") ?? "",
    table: search.get("table") === "1",
    pick: search.get("pick") ?? "",
    depth: Number(search.get("depth")) || 0,
    leaves: search.get("leaves") !== "hidden",
    start: search.get("start") ?? "",
    goal: search.get("goal") ?? "",
    pins: (search.get("pins") ?? "").split(",").map(Number).filter(Boolean),
    tunnels: search.get("tunnels") === "1",
    arranging: search.get("arrange") === "1",
  };
}

/** Which map, by what it is coloured, and what of it is shown. */
export function MapTools({ nodes, onFound }: { nodes: Node[]; onFound: (node: Node) => void }) {
  const show = useMapShow();
  const set = useSetSearch();
  const { data: parts } = useQuery(mapPartsQuery);
  const level = show.site ? "site" : show.devices ? "devices" : "sites";
  const mark = (on: boolean) => `h-6 px-1.5 ${on ? "marked" : "text-ink2 hover:text-ink"}`;
  return (
    <div className="flex flex-wrap items-center gap-x-3 gap-y-0.5 text-small">
      <fieldset aria-label="Level" className="flex">
        <button
          type="button"
          aria-pressed={level === "sites"}
          className={mark(level === "sites")}
          onClick={() => set({ site: "", show: "", pick: "" })}
        >
          sites
        </button>
        {show.site && (
          <button type="button" aria-pressed className={mark(true)}>
            {show.site}
          </button>
        )}
        <button
          type="button"
          aria-pressed={level === "devices"}
          className={mark(level === "devices")}
          onClick={() => set({ site: "", show: "devices", pick: "" })}
        >
          all devices
        </button>
      </fieldset>
      <InlineToggles
        label="Colour links by"
        value={show.by}
        options={BY}
        onChoose={(by) => set({ by: by === "load" ? "" : by })}
      />
      {parts && parts.length > 0 && (
        <InlineChoice
          label="only"
          value={show.part}
          options={[["", "everything"], ...parts.map(({ name, words }): [string, string] => [name, words])]}
          onChoose={(part) => set({ part, pick: "" })}
        />
      )}
      <InlineChoice
        label="around the picked one"
        value={String(show.depth)}
        options={[
          ["0", "everything"],
          ["1", "1 link"],
          ["2", "2 links"],
          ["3", "3 links"],
          ["5", "5 links"],
        ]}
        onChoose={(depth) => set({ depth: depth === "0" ? "" : depth })}
      />
      <Flag words="leaves" on={show.leaves} onSet={(on) => set({ leaves: on ? "" : "hidden" })} />
      <Flag words="tunnels" on={show.tunnels} onSet={(on) => set({ tunnels: on ? "1" : "" })} />
      <Flag words="arrange" on={show.arranging} onSet={(on) => set({ arrange: on ? "1" : "" })} />
      <Flag words="as a table" on={show.table} onSet={(on) => set({ table: on ? "1" : "" })} />
      <Find nodes={nodes} onFound={onFound} />
    </div>
  );
}

function Flag({ words, on, onSet }: { words: string; on: boolean; onSet: (on: boolean) => void }) {
  return (
    <label className="flex items-center gap-1 text-ink2">
      <input type="checkbox" checked={on} onChange={(event) => onSet(event.target.checked)} />
      {words}
    </label>
  );
}

/** Looks for a card by name, address, model, serial number or MAC address; Enter goes from one to the next. */
function Find({ nodes, onFound }: { nodes: Node[]; onFound: (node: Node) => void }) {
  const [words, setWords] = useState("");
  const [place, setPlace] = useState(0);
  const asked = words.toLowerCase().split(/\s+/).filter(Boolean);
  const found = asked.length
    ? nodes.filter(({ name, address, model, site, serial, mac, members }) => {
        const said = [name, address, model, site, serial, mac, ...members].join(" ").toLowerCase();
        return asked.every((word) => said.includes(word));
      })
    : [];
  const go = () => {
    const node = found[place % Math.max(1, found.length)];
    if (node) onFound(node);
    setPlace(place + 1);
  };
  return (
    <form
      className="ml-auto flex items-center gap-1.5"
      onSubmit={(event) => {
        event.preventDefault();
        go();
      }}
    >
      {asked.length > 0 && <span className="text-ink2">{found.length || "none"}</span>}
      <input
        type="search"
        aria-label="Find on the map"
        placeholder="find…"
        className="w-28 border-b border-rule bg-transparent px-1 outline-none focus:border-ink"
        value={words}
        onChange={(event) => {
          setWords(event.target.value);
          setPlace(0);
        }}
      />
    </form>
  );
}
