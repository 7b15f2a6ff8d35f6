import { keepPreviousData, queryOptions } from "@tanstack/react-query";
import { client, got, type Schemas } from "./client";
import type { Range } from "./queries";

export type PathRow = Schemas["PathOut"];
export type PathBody = Schemas["PathIn"];
export type PathCourse = Schemas["Course"];
export type PathMeasure = keyof Omit<Schemas["Figures"], "sent" | "lost">;

export const pathsQuery = (range: Range) =>
  queryOptions({
    queryKey: ["paths", range],
    queryFn: () => got(client.GET("/api/v1/paths", { params: { query: range } })),
    placeholderData: keepPreviousData,
  });

export const pathCoursesQuery = (paths: number[], measure: PathMeasure, range: Range) =>
  queryOptions({
    queryKey: ["paths", "courses", paths, measure, range],
    queryFn: () => got(client.GET("/api/v1/paths/courses", { params: { query: { paths, measure, ...range } } })),
    enabled: paths.length > 0,
    placeholderData: keepPreviousData,
  });

export const pathQuery = (path: number, range: Range) =>
  queryOptions({
    queryKey: ["paths", path, range],
    queryFn: () => got(client.GET("/api/v1/paths/{path}", { params: { path: { path }, query: range } })),
    placeholderData: keepPreviousData,
  });

export const keepPath = (path: number | null, body: PathBody) =>
  path === null
    ? got(client.POST("/api/v1/paths", { body }))
    : got(client.PUT("/api/v1/paths/{path}", { params: { path: { path } }, body }));

export const deviceTestsQuery = (device: number | null) =>
  queryOptions({
    queryKey: ["paths", "tests", device],
    queryFn: () => got(client.GET("/api/v1/devices/{device}/tests", { params: { path: { device: device ?? 0 } } })),
    enabled: device !== null,
    staleTime: 30_000,
    retry: false,
  });

export const deletePath = (path: number) => got(client.DELETE("/api/v1/paths/{path}", { params: { path: { path } } }));

export type ServiceClass = Schemas["ServiceClassOut"];
export type ServiceClassBody = Schemas["ServiceClassIn"];
export type Transport = Schemas["TransportOut"];
export type TransportBody = Schemas["TransportIn"];
export type Sla = Schemas["SlaOut"];
export type SlaFilter = Partial<Schemas["SlaFilters"]>;
export type SlaBy = NonNullable<Schemas["SlaFilters"]["by"]>;

export const slaQuery = (filter: SlaFilter) =>
  queryOptions({
    queryKey: ["paths", "sla", filter],
    queryFn: () => got(client.GET("/api/v1/sla", { params: { query: filter } })),
    placeholderData: keepPreviousData,
  });

export const serviceClassesQuery = queryOptions({
  queryKey: ["paths", "classes"],
  queryFn: () => got(client.GET("/api/v1/service-classes", {})),
});

export const keepServiceClass = (service_class: number | null, body: ServiceClassBody) =>
  service_class === null
    ? got(client.POST("/api/v1/service-classes", { body }))
    : got(client.PUT("/api/v1/service-classes/{service_class}", { params: { path: { service_class } }, body }));

export const deleteServiceClass = (service_class: number) =>
  got(client.DELETE("/api/v1/service-classes/{service_class}", { params: { path: { service_class } } }));

export const transportsQuery = queryOptions({
  queryKey: ["paths", "transports"],
  queryFn: () => got(client.GET("/api/v1/transports", {})),
});

export const keepTransport = (transport: number | null, body: TransportBody) =>
  transport === null
    ? got(client.POST("/api/v1/transports", { body }))
    : got(client.PUT("/api/v1/transports/{transport}", { params: { path: { transport } }, body }));

export const deleteTransport = (transport: number) =>
  got(client.DELETE("/api/v1/transports/{transport}", { params: { path: { transport } } }));

export type NetworkQuestion = Schemas["QuestionOut"];
export type NetworkFinding = Schemas["OnTheWay"];

export const networkQuestionQuery = (whence: string, whither: string, range: Range) =>
  queryOptions({
    queryKey: ["paths", "question", whence, whither, range],
    queryFn: () => got(client.GET("/api/v1/was-it-the-network", { params: { query: { whence, whither, ...range } } })),
    enabled: Boolean(whence && whither),
    placeholderData: keepPreviousData,
    retry: false,
  });

export type Choice = Schemas["ChoiceOut"];
export type WayOver = Schemas["WayOver"];
export type TransportMove = Schemas["MoveOut"];

export const choicesQuery = queryOptions({
  queryKey: ["paths", "choices"],
  queryFn: () => got(client.GET("/api/v1/overlay", {})),
  refetchInterval: 60_000,
});

export const movesQuery = (range: Range) =>
  queryOptions({
    queryKey: ["paths", "moves", range],
    queryFn: () => got(client.GET("/api/v1/overlay/moves", { params: { query: range } })),
    placeholderData: keepPreviousData,
  });

export const moveQuery = (move: number) =>
  queryOptions({
    queryKey: ["paths", "moves", move],
    queryFn: () => got(client.GET("/api/v1/overlay/moves/{move}", { params: { path: { move } } })),
  });

export const nearestPathsQuery = (at: string | null) =>
  queryOptions({
    queryKey: ["paths", "nearest", at],
    queryFn: () => got(client.GET("/api/v1/paths/nearest", { params: { query: at ? { at } : {} } })),
    placeholderData: keepPreviousData,
  });

export const routesQuery = (path: number, range: Range) =>
  queryOptions({
    queryKey: ["paths", path, "routes", range],
    queryFn: () => got(client.GET("/api/v1/paths/{path}/routes", { params: { path: { path }, query: range } })),
    placeholderData: keepPreviousData,
  });
