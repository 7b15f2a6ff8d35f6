import { useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";

/** Which queries an announced topic makes stale. Past times never change, so they are left alone. */
const STALE: Record<string, string[]> = {
  readings: ["now", "ports", "devices", "device", "interface", "series", "parts", "health"],
  alarms: ["now", "alarms", "timeline", "device", "interface", "ports", "devices"],
  logbook: ["now", "logbook"],
  devices: ["devices", "sites", "groups", "ports"],
  sweeps: ["sweeps"],
  sums: ["series", "top", "grid"],
  groups: ["groups", "ports", "devices", "series", "top", "grid", "forecasts"],
  health: ["health"],
};
const PAUSE = 2000;

/** Follow the event stream: what is announced is fetched again, at most every two seconds, in one go. */
export function useLive(follow: boolean) {
  const queries = useQueryClient();
  useEffect(() => {
    if (!follow) return;
    const waiting = new Set<string>();
    let timer: ReturnType<typeof setTimeout> | undefined;
    const refresh = () => {
      timer = undefined;
      const names = new Set([...waiting].flatMap((topic) => STALE[topic] ?? Object.values(STALE).flat()));
      waiting.clear();
      void queries.invalidateQueries({ predicate: (query) => names.has(String(query.queryKey[0])) });
    };
    const source = new EventSource("/api/v1/events");
    source.onmessage = (event) => {
      const told = JSON.parse(event.data) as { topic: string };
      waiting.add(told.topic);
      // An alarm is shown at once, everything else when there is something to show together.
      if (told.topic === "alarms" && timer) {
        clearTimeout(timer);
        timer = undefined;
      }
      timer ??= setTimeout(refresh, told.topic === "alarms" ? 50 : PAUSE);
    };
    return () => {
      source.close();
      if (timer) clearTimeout(timer);
    };
  }, [follow, queries]);
}
