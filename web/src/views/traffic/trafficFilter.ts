import { useMemo } from "react";
import { useSearchParams } from "react-router";
import type { Traffic, TrafficFilter } from "../../api/trafficQueries";
import { type Layer, layerToken } from "../../charts/TrafficChart";

/** What narrows traffic further, each taken away by itself. */
export const FILTERS = [
  "application",
  "sender",
  "receiver",
  "address",
  "port",
  "protocol",
  "dscp",
  "src_site",
  "dst_site",
  "system",
  "country",
  "place",
];
const SCOPE = ["interface", "device", "group", "site"];

/** Which traffic is shown, from the address; of a port one direction. */
export function useTrafficFilter(): TrafficFilter {
  const [search] = useSearchParams();
  const text = search.toString();
  // biome-ignore lint/correctness/useExhaustiveDependencies: the text stands for the parameters
  return useMemo(() => {
    const found: TrafficFilter = {};
    for (const name of [...SCOPE, ...FILTERS]) {
      const value = search.get(name);
      if (value) found[name] = value;
    }
    if (found.interface) found.way = search.get("way") ?? "out";
    return found;
  }, [text]);
}

/** The largest rows as layers from the bottom upwards, with all others together on top. */
export function layersOf({ rows, whole }: Traffic): Layer[] {
  const drawn = rows.filter((row) => row.line.length > 0);
  const layers = drawn.map((row, place) => ({ name: row.name, token: layerToken(place), values: row.line }));
  const rest = whole.map((value, place) =>
    Math.max(0, value - drawn.reduce((sum, row) => sum + (row.line[place] ?? 0), 0)),
  );
  return rest.some((value) => value > 0) ? [...layers, { name: "others", token: "rest", values: rest }] : layers;
}
