import { keepPreviousData, queryOptions } from "@tanstack/react-query";
import { client, got } from "./client";
import { type Place, past } from "./queries";

export const linksQuery = (at: string | null, place: Place) =>
  queryOptions({
    queryKey: ["links", at, place],
    queryFn: () => got(client.GET("/api/v1/links", { params: { query: { ...past(at), ...place } } })),
  });

export type StationFilter = { words?: string; site?: string; device?: number; interface?: number };

export const stationsQuery = (at: string | null, filter: StationFilter) =>
  queryOptions({
    queryKey: ["stations", at, filter],
    queryFn: () => got(client.GET("/api/v1/stations", { params: { query: { ...past(at), ...filter } } })),
  });

/** Where a MAC address or an address is, and was. */
export const whereIsQuery = (at: string | null, what: string) =>
  queryOptions({
    queryKey: ["stations", "where", at, what],
    queryFn: () => got(client.GET("/api/v1/stations/{what}", { params: { path: { what }, query: past(at) } })),
  });

export const layersQuery = (device: number) =>
  queryOptions({
    queryKey: ["device", device, "layers"],
    queryFn: () => got(client.GET("/api/v1/devices/{device}/layers", { params: { path: { device } } })),
  });

export const layer2Query = (port: number) =>
  queryOptions({
    queryKey: ["interface", port, "layer2"],
    queryFn: () => got(client.GET("/api/v1/interfaces/{interface}/layer2", { params: { path: { interface: port } } })),
  });

/** Where what is seen is not what is expected. */
export const expectedQuery = queryOptions({
  queryKey: ["links", "expected"],
  queryFn: () => got(client.GET("/api/v1/links/expected", {})),
});

/** What can be done to a port on the device. */
export const portActionsQuery = (port: number) =>
  queryOptions({
    queryKey: ["actions", port],
    queryFn: () => got(client.GET("/api/v1/interfaces/{interface}/actions", { params: { path: { interface: port } } })),
    gcTime: 0,
  });

/** Whether a device can be restarted. */
export const restartQuery = (device: number) =>
  queryOptions({
    queryKey: ["restart", device],
    queryFn: () => got(client.GET("/api/v1/devices/{device}/restart", { params: { path: { device } } })),
    gcTime: 0,
  });

/** The few figures that say how devices are. */
export const figuresQuery = (devices: number[], at: string | null) =>
  queryOptions({
    queryKey: ["map", "figures", devices, at],
    queryFn: () => got(client.GET("/api/v1/map/figures", { params: { query: { devices, ...past(at) } } })),
    staleTime: 30_000,
    refetchInterval: at ? false : 60_000,
    placeholderData: keepPreviousData,
  });

/** The tunnels of overlays, as controllers tell of them now. */
export const tunnelsQuery = queryOptions({
  queryKey: ["controllers", "tunnels"],
  queryFn: () => got(client.GET("/api/v1/tunnels", {})),
});

/** What a map can show alone: VLANs, the storage network. */
export const mapPartsQuery = queryOptions({
  queryKey: ["map", "parts"],
  queryFn: () => got(client.GET("/api/v1/map/parts", {})),
  staleTime: 60_000,
});

export const mapQuery = (at: string | null, site: string, devices: boolean, part: string) =>
  queryOptions({
    queryKey: ["map", at, site, devices, part],
    queryFn: () =>
      got(
        client.GET("/api/v1/map", {
          params: {
            query: {
              ...past(at),
              ...(site ? { site } : {}),
              ...(devices ? { devices } : {}),
              ...(part ? { part } : {}),
            },
          },
        }),
      ),
  });

export const wayQuery = (start: string, goal: string, at: string | null) =>
  queryOptions({
    queryKey: ["map", "way", start, goal, at],
    queryFn: () => got(client.GET("/api/v1/map/way", { params: { query: { start, goal, ...past(at) } } })),
    retry: false,
  });

/** What is asked to fail: a card of the map, a port, or several things at once. */
export type Failing =
  | { node: string }
  | { interface: number }
  | { devices: number[]; interfaces: number[]; sites: string[] };

export const impactQuery = (question: Failing) =>
  queryOptions({
    queryKey: ["impact", question],
    queryFn: () => got(client.GET("/api/v1/map/impact", { params: { query: question } })),
    staleTime: 30_000,
  });

export const strangersQuery = (at: string | null) =>
  queryOptions({
    queryKey: ["links", "strangers", at],
    queryFn: () => got(client.GET("/api/v1/neighbours/strangers", { params: { query: past(at) } })),
  });

export const neighboursQuery = (device: number, at: string | null) =>
  queryOptions({
    queryKey: ["device", device, "neighbours", at],
    queryFn: () =>
      got(client.GET("/api/v1/devices/{device}/neighbours", { params: { path: { device }, query: past(at) } })),
  });

export const portNeighboursQuery = (port: number, at: string | null) =>
  queryOptions({
    queryKey: ["interface", port, "neighbours", at],
    queryFn: () =>
      got(
        client.GET("/api/v1/interfaces/{interface}/neighbours", {
          params: { path: { interface: port }, query: past(at) },
        }),
      ),
  });

export type PointFilter = { words?: string; network?: string; site?: string; device?: number; interface?: number };

/** Access points, at which port each is plugged in, and the wireless networks that there are. */
export const accessPointsQuery = (at: string | null, filter: PointFilter) =>
  queryOptions({
    queryKey: ["wireless", "points", at, filter],
    queryFn: () => got(client.GET("/api/v1/access-points", { params: { query: { ...past(at), ...filter } } })),
  });

/** Who is in a wireless network or at an access point. */
export const wirelessClientsQuery = (at: string | null, filter: { network?: string; access_point?: number }) =>
  queryOptions({
    queryKey: ["wireless", "clients", at, filter],
    queryFn: () => got(client.GET("/api/v1/wireless-clients", { params: { query: { ...past(at), ...filter } } })),
  });

/** Who takes power over Ethernet. */
export const poweredQuery = (at: string | null, filter: { words?: string; site?: string; device?: number }) =>
  queryOptions({
    queryKey: ["powered", at, filter],
    queryFn: () => got(client.GET("/api/v1/powered", { params: { query: { ...past(at), ...filter } } })),
  });

/** Where a device sends packets: all its routes, or those that a packet to an address follows. */
export const routesQuery = (device: number, at: string | null, to: string) =>
  queryOptions({
    queryKey: ["device", device, "routes", at, to],
    queryFn: () =>
      got(client.GET("/api/v1/devices/{device}/routes", { params: { path: { device }, query: { ...past(at), to } } })),
    retry: false,
    placeholderData: keepPreviousData,
  });
