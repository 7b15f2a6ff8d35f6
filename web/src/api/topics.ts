/** What the server announces (domain/operation/topics.py), and the queries, by the first part of their key, that it makes stale. */
export const STALE = {
  readings: ["now", "map", "ports", "devices", "device", "interface", "series", "components"],
  alarms: ["now", "map", "alarms", "timeline", "device", "interface", "ports", "devices"],
  logbook: ["now", "logbook"],
  devices: ["devices", "map", "device", "sites", "groups", "ports", "inventory"],
  polls: ["poll"],
  sweeps: ["sweeps"],
  sums: ["series", "top", "grid"],
  groups: ["groups", "map", "ports", "devices", "series", "top", "grid", "forecasts"],
  rules: ["rules"],
  calling: ["calling", "rules", "setup"],
  maintenance: ["maintenance"],
  topology: ["links", "stations", "wireless", "powered", "map", "impact", "device", "interface"],
  flows: ["traffic", "exporters", "watched", "strangers", "captures"],
  paths: ["paths"],
  controllers: ["controllers", "paths", "map"],
  sessions: ["sessions"],
} as const satisfies Record<string, readonly string[]>;

export type Topic = keyof typeof STALE;

/** The queries that some topics make stale; a topic that is not known here makes none. */
export function staleBy(topics: Iterable<string>): Set<string> {
  return new Set([...topics].flatMap((topic) => (topic in STALE ? STALE[topic as Topic] : [])));
}
