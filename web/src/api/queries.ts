import { infiniteQueryOptions, keepPreviousData, queryOptions } from "@tanstack/react-query";
import { client, got, type Schemas } from "./client";

/** A time range; ``at`` is set when the whole screen is at a past time. ISO strings, as in the API. */
export type Range = { start: string; end: string };

export const sessionQuery = queryOptions({
  queryKey: ["session"],
  queryFn: () => got(client.GET("/api/v1/session", {})),
  staleTime: Number.POSITIVE_INFINITY,
  // Nothing can be shown without it: what is wrong is said at once, and it is asked again until it is there.
  retry: false,
  refetchInterval: (query) => (query.state.data ? false : 2000),
});

export const healthQuery = queryOptions({
  queryKey: ["health"],
  queryFn: () => got(client.GET("/api/v1/health", {})),
  refetchInterval: 10_000,
});

/** A past time as what is asked with; nothing if it is now. */
export const past = (at: string | null) => (at ? { at } : {});

export const nowQuery = (at: string | null) =>
  queryOptions({
    queryKey: ["now", at],
    queryFn: () => got(client.GET("/api/v1/now", { params: { query: past(at) } })),
    placeholderData: keepPreviousData,
  });

export const timelineQuery = (range: Range, buckets: number) =>
  queryOptions({
    queryKey: ["timeline", range, buckets],
    queryFn: () => got(client.GET("/api/v1/timeline", { params: { query: { ...range, buckets } } })),
    placeholderData: keepPreviousData,
  });

/** Where ports are, or the group that they are in. */
export type Place = { site?: string; group?: number };

export const sitesAtQuery = (at: string | null) =>
  queryOptions({
    queryKey: ["sites", at],
    queryFn: () => got(client.GET("/api/v1/sites", { params: { query: past(at) } })),
    placeholderData: keepPreviousData,
  });

export const sitesQuery = sitesAtQuery(null);

export const groupsQuery = queryOptions({
  queryKey: ["groups"],
  queryFn: () => got(client.GET("/api/v1/groups", {})),
  staleTime: 30_000,
});

export type PortFilter = Place & { device?: number; words?: string; state?: string; sort?: string };

export const portsQuery = (at: string | null, filter: PortFilter) =>
  queryOptions({
    queryKey: ["ports", at, filter],
    queryFn: () =>
      got(client.GET("/api/v1/interfaces", { params: { query: { ...past(at), ...filter, limit: 2000 } } })),
    placeholderData: keepPreviousData,
  });

/** Rows of a page of a long list: only the pages that are seen are fetched. */
export const PAGE = 200;

export const portPageQuery = (at: string | null, filter: PortFilter, page: number) =>
  queryOptions({
    queryKey: ["ports", "page", at, filter, page],
    queryFn: () =>
      got(
        client.GET("/api/v1/interfaces", {
          params: { query: { ...past(at), ...filter, limit: PAGE, start: page * PAGE } },
        }),
      ),
  });

export const devicePageQuery = (at: string | null, filter: Place & { words?: string }, page: number) =>
  queryOptions({
    queryKey: ["devices", "page", at, filter, page],
    queryFn: () =>
      got(
        client.GET("/api/v1/devices", {
          params: { query: { ...past(at), ...filter, limit: PAGE, start: page * PAGE } },
        }),
      ),
  });

export const devicesQuery = (at: string | null, filter: Place & { words?: string }) =>
  queryOptions({
    queryKey: ["devices", at, filter],
    queryFn: () => got(client.GET("/api/v1/devices", { params: { query: { ...past(at), ...filter, limit: 2000 } } })),
    placeholderData: keepPreviousData,
  });

export const deviceQuery = (device: number, at: string | null) =>
  queryOptions({
    queryKey: ["device", device, at],
    queryFn: () => got(client.GET("/api/v1/devices/{device}", { params: { path: { device }, query: past(at) } })),
  });

export const componentsQuery = (device: number, range: Range) =>
  queryOptions({
    queryKey: ["components", device, range],
    queryFn: () =>
      got(client.GET("/api/v1/devices/{device}/components", { params: { path: { device }, query: { ...range } } })),
    placeholderData: keepPreviousData,
  });

export const logbookQuery = (range: Range, only: { device?: number; interface?: number }) =>
  queryOptions({
    queryKey: ["logbook", range, only],
    queryFn: () => got(client.GET("/api/v1/logbook", { params: { query: { ...range, ...only, limit: 50 } } })),
    placeholderData: keepPreviousData,
  });

export const interfaceQuery = (number: number, at: string | null) =>
  queryOptions({
    queryKey: ["interface", number, at],
    queryFn: () =>
      got(client.GET("/api/v1/interfaces/{interface}", { params: { path: { interface: number }, query: past(at) } })),
  });

/** A range so many seconds earlier. */
function shifted(range: Range, seconds: number): Range {
  const earlier = (at: string) => new Date(Date.parse(at) - seconds * 1000).toISOString();
  return seconds ? { start: earlier(range.start), end: earlier(range.end) } : range;
}

export const seriesQuery = (number: number, range: Range, earlier = 0) =>
  queryOptions({
    queryKey: ["series", number, range, earlier],
    queryFn: () =>
      got(
        client.GET("/api/v1/interfaces/{interface}/series", {
          params: { path: { interface: number }, query: { ...shifted(range, earlier), points: 1500 } },
        }),
      ),
    placeholderData: keepPreviousData,
  });

export type LinesFilter = Place & { interfaces?: number[]; role?: string; words?: string; device?: number };

/** Several interfaces on one chart, and their total. */
export const linesQuery = (filter: LinesFilter, range: Range, points = 600, lines = 10) =>
  queryOptions({
    queryKey: ["series", "lines", filter, range, points, lines],
    queryFn: () => got(client.GET("/api/v1/series", { params: { query: { ...filter, ...range, points, lines } } })),
    placeholderData: keepPreviousData,
  });

type Looked = Schemas["LiveOut"];
/** Seconds of looks that are kept on the screen. */
export const LOOKED = 600;

/** What was found before and what is new, as one; what has grown old goes. */
export function joinedLooks(before: Looked | undefined, now: Looked): Looked {
  const old = new Map(before?.ports.map((port) => [port.id, port]));
  const since = Date.parse(now.at) / 1000 - LOOKED;
  const ports = now.ports.map((port) => {
    const earlier = old.get(port.id);
    if (!earlier) return port;
    const first = earlier.at.findIndex((at) => at > since);
    const from = first < 0 ? earlier.at.length : first;
    const joined = (name: "at" | "seconds" | "in_bps" | "out_bps") => [...earlier[name].slice(from), ...port[name]];
    return {
      ...port,
      at: joined("at"),
      seconds: joined("seconds"),
      in_bps: joined("in_bps"),
      out_bps: joined("out_bps"),
    };
  });
  return { ...now, ports };
}

/** Ports looked at every few seconds: asking is what keeps the looking alive, so a hidden screen ends it. */
export const liveQuery = (interfaces: number[], everySeconds: number) => {
  const queryKey = ["live", interfaces, everySeconds];
  return queryOptions({
    queryKey,
    queryFn: async ({ client: queries }) => {
      const before = queries.getQueryData<Looked>(queryKey);
      const body = { interfaces, every_s: everySeconds, ...(before ? { after: before.at } : {}) };
      return joinedLooks(before, await got(client.POST("/api/v1/live", { body })));
    },
    structuralSharing: false,
    gcTime: 60_000,
    retry: false,
  });
};

export const stopLooking = () => got(client.DELETE("/api/v1/live", {}));

export type TopFilter = Place & {
  by: string;
  lowest?: boolean;
  device?: number;
  role?: string;
  words?: string;
  limit?: number;
};

/** Ports in the order of a measure over a time. */
export const topQuery = (range: Range, filter: TopFilter) =>
  queryOptions({
    queryKey: ["top", range, filter],
    queryFn: () => got(client.GET("/api/v1/top", { params: { query: { ...range, ...filter } } })),
    placeholderData: keepPreviousData,
  });

export type GridFilter = Place & {
  by: "load" | "peak" | "errors";
  device?: number;
  role?: string;
  words?: string;
};

/** Every port as a cell; without a range over the last hour. */
export const gridQuery = (at: string | null, range: Range | null, filter: GridFilter) =>
  queryOptions({
    queryKey: ["grid", at, range, filter],
    queryFn: () => got(client.GET("/api/v1/grid", { params: { query: { ...past(at), ...range, ...filter } } })),
    placeholderData: keepPreviousData,
  });

export type ForecastFilter = LinesFilter & { together?: boolean };

/** When ports will be full, what is full first first; or when all together will be. */
export const forecastsQuery = (at: string | null, filter: ForecastFilter) =>
  queryOptions({
    queryKey: ["forecasts", at, filter],
    queryFn: () => got(client.GET("/api/v1/forecasts", { params: { query: { ...past(at), ...filter } } })),
    placeholderData: keepPreviousData,
    staleTime: 600_000,
  });

export const calculationQuery = (number: number, at: string, step: number) =>
  queryOptions({
    queryKey: ["calculation", number, at, step],
    queryFn: () =>
      got(
        client.GET("/api/v1/interfaces/{interface}/calculation", {
          params: { path: { interface: number }, query: { at, step } },
        }),
      ),
    staleTime: Number.POSITIVE_INFINITY,
    placeholderData: keepPreviousData,
  });

export const alarmsQuery = (at: string | null, only: { device?: number; interface?: number; path?: number } = {}) =>
  queryOptions({
    queryKey: ["alarms", "active", at, only],
    queryFn: () => got(client.GET("/api/v1/alarms", { params: { query: { ...past(at), ...only } } })),
    placeholderData: keepPreviousData,
  });

/** The worst alarms that are active now, and how many there are. */
export const worstQuery = queryOptions({
  queryKey: ["alarms", "worst"],
  queryFn: () => got(client.GET("/api/v1/alarms", { params: { query: { limit: 20 } } })),
  refetchInterval: 60_000,
});

type AlarmList = { active: boolean; shelved?: boolean; at?: string; start?: string; limit: number; words?: string };

const alarmPages = (name: string, query: AlarmList) =>
  infiniteQueryOptions({
    queryKey: ["alarms", name, query],
    queryFn: ({ pageParam }) =>
      got(
        client.GET("/api/v1/alarms", { params: { query: { ...query, ...(pageParam ? { cursor: pageParam } : {}) } } }),
      ),
    initialPageParam: "",
    getNextPageParam: (last) => last.next,
    placeholderData: keepPreviousData,
  });

export const alarmListQuery = (at: string | null, shelved: boolean) =>
  alarmPages("list", { active: true, shelved, limit: 200, ...past(at) });

export const alarmHistoryQuery = (range: Range, words = "") =>
  alarmPages("history", { active: false, start: range.start, at: range.end, limit: 200, words });

export const alarmQuery = (alarm: number, at: string | null) =>
  queryOptions({
    queryKey: ["alarms", "one", alarm, at],
    queryFn: () => got(client.GET("/api/v1/alarms/{alarm}", { params: { path: { alarm }, query: past(at) } })),
  });

export const rulesQuery = queryOptions({
  queryKey: ["rules"],
  queryFn: () => got(client.GET("/api/v1/rules", {})),
});

/** The rules that apply to a port, or to a device and its components. */
export const applyingQuery = (only: { interface?: number; device?: number }) =>
  queryOptions({
    queryKey: ["rules", "applying", only],
    queryFn: () => got(client.GET("/api/v1/rules", { params: { query: only } })),
  });

/** What rules are made of, and those that are recommended. */
export const vocabularyQuery = queryOptions({
  queryKey: ["rules", "vocabulary"],
  queryFn: () => got(client.GET("/api/v1/rules/vocabulary", {})),
});

/** A poll that was asked for: looked at again until it is done. */
export const pollQuery = (device: number, poll: number) =>
  queryOptions({
    queryKey: ["poll", device, poll],
    queryFn: () => got(client.GET("/api/v1/devices/{device}/polls/{poll}", { params: { path: { device, poll } } })),
    refetchInterval: (query) => (query.state.data?.done_at ? false : 300),
  });

export const inventoryQuery = (filter: Place & { sort: string; words: string; since?: string }) =>
  queryOptions({
    queryKey: ["inventory", filter],
    queryFn: () => got(client.GET("/api/v1/catalogue", { params: { query: { ...filter, limit: 2000 } } })),
  });

export const maintenanceQuery = queryOptions({
  queryKey: ["maintenance"],
  queryFn: () => got(client.GET("/api/v1/maintenance", {})),
});

export const maintenanceCalendarQuery = (range: Range) =>
  queryOptions({
    queryKey: ["maintenance", "calendar", range],
    queryFn: () => got(client.GET("/api/v1/maintenance/calendar", { params: { query: range } })),
    placeholderData: keepPreviousData,
  });

/** The consequences of an alarm. */
export const consequencesQuery = (cause: number, at: string | null) =>
  queryOptions({
    queryKey: ["alarms", "consequences", cause, at],
    queryFn: () => got(client.GET("/api/v1/alarms", { params: { query: { cause, ...past(at) } } })),
    placeholderData: keepPreviousData,
  });
