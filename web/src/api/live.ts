import { useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import { staleBy } from "./topics";

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
      const names = staleBy(waiting);
      waiting.clear();
      void queries.invalidateQueries({ predicate: (query) => names.has(String(query.queryKey[0])) });
    };
    const source = new EventSource("/api/v1/events");
    let opened = false;
    source.onopen = () => {
      document.documentElement.dataset.live = "on";
      // What was announced while the stream was broken is not announced again.
      if (opened) void queries.invalidateQueries();
      opened = true;
    };
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
      delete document.documentElement.dataset.live;
      if (timer) clearTimeout(timer);
    };
  }, [follow, queries]);
}
