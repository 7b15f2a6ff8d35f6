import { keepPreviousData, queryOptions } from "@tanstack/react-query";
import { client, got, type Schemas } from "./client";
import { postFile } from "./lines";
import type { Range } from "./queries";

export type By =
  | "application"
  | "sender"
  | "receiver"
  | "conversation"
  | "site"
  | "port"
  | "protocol"
  | "DSCP"
  | "AS"
  | "country"
  | "place";

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

export type TimesBy = "application" | "server" | "site" | "exporter";
export type ResponseTimes = Schemas["ResponseTimesOut"];
export type DeclaredField = Schemas["DeclaredFieldOut"];
export type DeclaredFieldBody = Schemas["DeclaredFieldIn"];

export const responseTimesQuery = (by: TimesBy, filter: TrafficFilter, range: Range) =>
  queryOptions({
    queryKey: ["traffic", "times", by, filter, range],
    queryFn: () =>
      got(client.GET("/api/v1/traffic/response-times", { params: { query: { ...(filter as object), by, ...range } } })),
    placeholderData: keepPreviousData,
    retry: false,
  });

export const declaredFieldsQuery = queryOptions({
  queryKey: ["declared fields"],
  queryFn: () => got(client.GET("/api/v1/traffic/declared-fields", {})),
});

export const declareField = (body: DeclaredFieldBody) => got(client.POST("/api/v1/traffic/declared-fields", { body }));

export const deleteDeclaredField = (field: number) =>
  got(client.DELETE("/api/v1/traffic/declared-fields/{field}", { params: { path: { field } } }));

export type FlowRecord = Schemas["RecordOut"];

/** Records as they come: asking is what has them kept. */
export const liveRecordsQuery = (filter: TrafficFilter, seconds: number) =>
  queryOptions({
    queryKey: ["records", "live", filter, seconds],
    queryFn: () =>
      got(client.POST("/api/v1/traffic/live", { params: { query: filter as object }, body: { last_s: seconds } })),
    placeholderData: keepPreviousData,
    gcTime: 30_000,
    retry: false,
  });

/** Records that were kept, of a time. */
export const recordsQuery = (filter: TrafficFilter, range: Range) =>
  queryOptions({
    queryKey: ["records", filter, range],
    queryFn: () =>
      got(
        client.GET("/api/v1/traffic/records", { params: { query: { ...(filter as object), ...range, limit: 500 } } }),
      ),
    placeholderData: keepPreviousData,
    retry: false,
  });

export const recordingsQuery = queryOptions({
  queryKey: ["recordings"],
  queryFn: () => got(client.GET("/api/v1/traffic/recordings", {})),
});

export const keepRecords = (device: number | null, hours: number) =>
  got(client.POST("/api/v1/traffic/recordings", { body: { device, hours } }));

export const endRecording = (recording: number) =>
  got(client.DELETE("/api/v1/traffic/recordings/{recording_id}", { params: { path: { recording_id: recording } } }));

export type WatchedTraffic = Schemas["WatchedOut"];
export type AddressList = Schemas["AddressListOut"];
export type StrangerRow = Schemas["UnknownAddressOut"];

export const watchedQuery = queryOptions({
  queryKey: ["watched"],
  queryFn: () => got(client.GET("/api/v1/traffic/watched", {})),
});

export const watchTraffic = (name: string, filters: TrafficFilter) =>
  got(client.POST("/api/v1/traffic/watched", { body: { name, filters } }));

export const endWatching = (traffic: number) =>
  got(client.DELETE("/api/v1/traffic/watched/{traffic_id}", { params: { path: { traffic_id: traffic } } }));

export const addressListsQuery = queryOptions({
  queryKey: ["strangers", "lists"],
  queryFn: () => got(client.GET("/api/v1/traffic/addresses", {})),
});

export const strangersQuery = (accepted: boolean) =>
  queryOptions({
    queryKey: ["strangers", accepted],
    queryFn: () => got(client.GET("/api/v1/traffic/strangers", { params: { query: { accepted } } })),
    placeholderData: keepPreviousData,
  });

export const keepAddressList = (list: number | null, body: Schemas["AddressListIn"]) =>
  list === null
    ? got(client.POST("/api/v1/traffic/addresses", { body }))
    : got(client.PUT("/api/v1/traffic/addresses/{list_id}", { params: { path: { list_id: list } }, body }));

export const deleteAddressList = (list: number) =>
  got(client.DELETE("/api/v1/traffic/addresses/{list_id}", { params: { path: { list_id: list } } }));

export const acceptStrangers = (list: number, body: Schemas["AcceptIn"]) =>
  got(client.POST("/api/v1/traffic/addresses/{list_id}/accepted", { params: { path: { list_id: list } }, body }));

export type OwnApplication = Schemas["ApplicationOut"];
export type ApplicationBody = Schemas["ApplicationIn"];
export type PrefixKind = "systems" | "places";

export const applicationsQuery = queryOptions({
  queryKey: ["applications"],
  queryFn: () => got(client.GET("/api/v1/applications", {})),
});

export const keepApplication = (application: number | null, body: ApplicationBody) =>
  application === null
    ? got(client.POST("/api/v1/applications", { body }))
    : got(client.PUT("/api/v1/applications/{application}", { params: { path: { application } }, body }));

export const deleteApplication = (application: number) =>
  got(client.DELETE("/api/v1/applications/{application}", { params: { path: { application } } }));

export const tryApplication = (body: ApplicationBody) => got(client.POST("/api/v1/applications/try", { body }));

export const prefixTablesQuery = queryOptions({
  queryKey: ["prefixtables"],
  queryFn: () => got(client.GET("/api/v1/prefixtables", {})),
});

export const loadPrefixTable = (kind: PrefixKind, file: File) =>
  postFile<Schemas["PrefixTableOut"]>(`prefixtables/${kind}/file`, file);

export const deletePrefixTable = (kind: PrefixKind) =>
  got(client.DELETE("/api/v1/prefixtables/{kind}", { params: { path: { kind } } }));

export type Capture = Schemas["CaptureOut"];
export type CaptureBody = Schemas["CaptureIn"];

export const capturesQuery = queryOptions({
  queryKey: ["captures"],
  queryFn: () => got(client.GET("/api/v1/captures", {})),
});

export const beginCapture = (body: CaptureBody) => got(client.POST("/api/v1/captures", { body }));

export const stopCapture = (capture: number) =>
  got(client.POST("/api/v1/captures/{capture}/stop", { params: { path: { capture } } }));

export const deleteCapture = (capture: number) =>
  got(client.DELETE("/api/v1/captures/{capture}", { params: { path: { capture } } }));
