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

export const deletePath = (path: number) => got(client.DELETE("/api/v1/paths/{path}", { params: { path: { path } } }));
