import { infiniteQueryOptions, keepPreviousData, queryOptions } from "@tanstack/react-query";
import { client, got, type Schemas } from "./client";
import { postText } from "./lines";

export const setupQuery = queryOptions({
  queryKey: ["setup"],
  queryFn: () => got(client.GET("/api/v1/setup", {})),
});

export const peopleQuery = queryOptions({
  queryKey: ["people"],
  queryFn: () => got(client.GET("/api/v1/people", {})),
});

export const tokensQuery = queryOptions({
  queryKey: ["tokens"],
  queryFn: () => got(client.GET("/api/v1/tokens", {})),
});

export const sessionsQuery = queryOptions({
  queryKey: ["sessions"],
  queryFn: () => got(client.GET("/api/v1/sessions", {})),
});

export const auditQuery = (words: string) =>
  infiniteQueryOptions({
    queryKey: ["audit", words],
    queryFn: ({ pageParam }) =>
      got(client.GET("/api/v1/audit", { params: { query: { words, ...(pageParam ? { cursor: pageParam } : {}) } } })),
    initialPageParam: "",
    getNextPageParam: (last) => last.next,
    placeholderData: keepPreviousData,
  });

export const servicesQuery = queryOptions({
  queryKey: ["services"],
  queryFn: () => got(client.GET("/api/v1/services", {})),
  refetchInterval: 5_000,
});

export const storageQuery = queryOptions({
  queryKey: ["storage"],
  queryFn: () => got(client.GET("/api/v1/storage", {})),
});

/** A pasted list as the other side understands it. */
export const listQuery = (text: string) =>
  queryOptions({
    queryKey: ["list", text],
    queryFn: () => postText<Schemas["ListOut"]>("devices/list", text),
    enabled: text.trim() !== "",
    placeholderData: keepPreviousData,
    gcTime: 0,
  });

export const credentialsQuery = queryOptions({
  queryKey: ["credentials"],
  queryFn: () => got(client.GET("/api/v1/credentials", {})),
});

/** Whether Lumtar may change anything on devices. */
export const writingQuery = queryOptions({
  queryKey: ["writing"],
  queryFn: () => got(client.GET("/api/v1/writing", {})),
});

export const sweepsQuery = queryOptions({
  queryKey: ["sweeps"],
  queryFn: () => got(client.GET("/api/v1/sweeps", {})),
});

export const findingsQuery = (sweep: number, state: string) =>
  queryOptions({
    queryKey: ["sweeps", "findings", sweep, state],
    queryFn: () =>
      got(
        client.GET("/api/v1/sweeps/{sweep}/findings", {
          params: { path: { sweep }, query: { state, limit: 2000 } },
        }),
      ),
    placeholderData: keepPreviousData,
  });

export const admissionRulesQuery = queryOptions({
  queryKey: ["admissionrules"],
  queryFn: () => got(client.GET("/api/v1/admissionrules", {})),
});

export const labelRulesQuery = queryOptions({
  queryKey: ["labelrules"],
  queryFn: () => got(client.GET("/api/v1/labelrules", {})),
});

export const labelSourcesQuery = (device: number, template: string) =>
  queryOptions({
    queryKey: ["labelsources", device, template],
    queryFn: () =>
      got(client.GET("/api/v1/devices/{device}/labels", { params: { path: { device }, query: { template } } })),
    placeholderData: keepPreviousData,
    retry: false,
  });

/** Who decided what a port is called and is for. */
export const decidedQuery = (number: number) =>
  queryOptions({
    queryKey: ["interface", "decided", number],
    queryFn: () =>
      got(client.GET("/api/v1/interfaces/{interface}/decided", { params: { path: { interface: number } } })),
  });

export const profilesQuery = queryOptions({
  queryKey: ["profiles"],
  queryFn: () => got(client.GET("/api/v1/profiles", {})),
});

export const profileDevicesQuery = (profile: number) =>
  queryOptions({
    queryKey: ["profiles", "devices", profile],
    queryFn: () => got(client.GET("/api/v1/profiles/{profile}/devices", { params: { path: { profile } } })),
  });

export const pollingLoadQuery = queryOptions({
  queryKey: ["pollingload"],
  queryFn: () => got(client.GET("/api/v1/polling/load", {})),
});

export const selfCheckQuery = queryOptions({
  queryKey: ["selfcheck"],
  queryFn: () => got(client.GET("/api/v1/selfcheck", {})),
});

export const ownFieldsQuery = queryOptions({
  queryKey: ["ownfields"],
  queryFn: () => got(client.GET("/api/v1/ownfields", {})),
});

export const retiredQuery = queryOptions({
  queryKey: ["devices", "retired"],
  queryFn: () => got(client.GET("/api/v1/devices", { params: { query: { retired: true, limit: 2000 } } })),
});
