import { infiniteQueryOptions, keepPreviousData, queryOptions } from "@tanstack/react-query";
import { client, got, type Schemas } from "./client";

export const contactsQuery = queryOptions({
  queryKey: ["calling", "contacts"],
  queryFn: () => got(client.GET("/api/v1/contacts", {})),
});

export const teamsQuery = queryOptions({
  queryKey: ["calling", "teams"],
  queryFn: () => got(client.GET("/api/v1/teams", {})),
  // Who is on duty changes with time.
  refetchInterval: 60_000,
});

export const plansQuery = queryOptions({
  queryKey: ["calling", "plans"],
  queryFn: () => got(client.GET("/api/v1/plans", {})),
});

export const destinationsQuery = queryOptions({
  queryKey: ["calling", "destinations"],
  queryFn: () => got(client.GET("/api/v1/destinations", {})),
});

/** Who would be called by a plan that is being written; ``typed`` is its body as text. */
export const wouldCallQuery = (typed: string, severity: number) =>
  queryOptions({
    queryKey: ["calling", "would", typed, severity],
    queryFn: () =>
      got(client.POST("/api/v1/plans/would", { body: { ...(JSON.parse(typed) as Schemas["PlanIn"]), severity } })),
    placeholderData: keepPreviousData,
    retry: false,
    gcTime: 0,
  });

/** What the texts of a plan that is being written say about the newest alarm. */
export const previewQuery = (typed: string, cleared: boolean) =>
  queryOptions({
    queryKey: ["calling", "preview", typed, cleared],
    queryFn: () =>
      got(client.POST("/api/v1/plans/preview", { body: { ...(JSON.parse(typed) as Schemas["PlanIn"]), cleared } })),
    placeholderData: keepPreviousData,
    retry: false,
    gcTime: 0,
  });

export const messagesQuery = (words: string, state: string) =>
  infiniteQueryOptions({
    queryKey: ["alarms", "messages", words, state],
    queryFn: ({ pageParam }) =>
      got(
        client.GET("/api/v1/messages", {
          params: { query: { words, state, ...(pageParam ? { cursor: pageParam } : {}) } },
        }),
      ),
    initialPageParam: "",
    getNextPageParam: (last) => last.next,
    placeholderData: keepPreviousData,
  });
