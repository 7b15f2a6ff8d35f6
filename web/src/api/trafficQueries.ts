import { keepPreviousData, queryOptions } from "@tanstack/react-query";
import { client, got, type Schemas } from "./client";
import type { Range } from "./queries";

export type By = "application" | "sender" | "receiver" | "conversation" | "site" | "port" | "protocol" | "DSCP";

/** Filters by their names in the address, which are those of the question. */
export type TrafficFilter = Record<string, string>;
export type Traffic = Schemas["TrafficOut"];

export const trafficQuery = (by: By, filter: TrafficFilter, range: Range, limit = 50, earlier = 0) =>
  queryOptions({
    queryKey: ["traffic", by, filter, range, limit, earlier],
    queryFn: () =>
      got(
        client.GET("/api/v1/traffic", {
          params: { query: { ...(filter as object), by, limit, ...range, ...(earlier ? { earlier_s: earlier } : {}) } },
        }),
      ),
    placeholderData: keepPreviousData,
    retry: false,
  });

export const exportersQuery = queryOptions({
  queryKey: ["exporters"],
  queryFn: () => got(client.GET("/api/v1/exporters", {})),
});
