import { queryOptions } from "@tanstack/react-query";
import { client, got, type Schemas } from "./client";

export type Controller = Schemas["ControllerOut"];
export type ControllerBody = Schemas["ControllerIn"];
export type ControllerProfile = Schemas["ControllerProfileOut"];
export type ControllerProfileBody = Schemas["ControllerProfileIn"];
export type ControllerItem = Schemas["ControllerItemOut"];
export type ControllerTrial = Schemas["ControllerTrialIn"];
export type ListKind = Schemas["ListKindOut"];
export type Listing = Schemas["ListingIO"];
export type SignIn = Schemas["SignInIO"];
export type SignInWay = Schemas["WayOut"];

export const controllersQuery = queryOptions({
  queryKey: ["controllers"],
  queryFn: () => got(client.GET("/api/v1/controllers", {})),
});

export const controllerKindsQuery = queryOptions({
  queryKey: ["controllers", "kinds"],
  queryFn: () => got(client.GET("/api/v1/controller-kinds", {})),
  staleTime: Number.POSITIVE_INFINITY,
});

export const controllerProfilesQuery = queryOptions({
  queryKey: ["controllers", "profiles"],
  queryFn: () => got(client.GET("/api/v1/controller-profiles", {})),
});

export const controllerItemsQuery = (controller: number, kind: string) =>
  queryOptions({
    queryKey: ["controllers", controller, kind],
    queryFn: () =>
      got(client.GET("/api/v1/controllers/{controller}/items", { params: { path: { controller }, query: { kind } } })),
  });

export const controllerItemQuery = (item: number) =>
  queryOptions({
    queryKey: ["controllers", "item", item],
    queryFn: () => got(client.GET("/api/v1/controller-items/{item}", { params: { path: { item } } })),
    enabled: item > 0,
  });

export const keepController = (controller: number | null, body: ControllerBody) =>
  controller === null
    ? got(client.POST("/api/v1/controllers", { body }))
    : got(client.PUT("/api/v1/controllers/{controller}", { params: { path: { controller } }, body }));

export const deleteController = (controller: number) =>
  got(client.DELETE("/api/v1/controllers/{controller}", { params: { path: { controller } } }));

export const askController = (controller: number) =>
  got(client.POST("/api/v1/controllers/{controller}/ask", { params: { path: { controller } } }));

export const addMembers = (controller: number, items: number[] | null) =>
  got(client.POST("/api/v1/controllers/{controller}/members", { params: { path: { controller } }, body: { items } }));

export const keepControllerProfile = (profile: number | null, body: ControllerProfileBody) =>
  profile === null
    ? got(client.POST("/api/v1/controller-profiles", { body }))
    : got(client.PUT("/api/v1/controller-profiles/{profile}", { params: { path: { profile } }, body }));

export const deleteControllerProfile = (profile: number) =>
  got(client.DELETE("/api/v1/controller-profiles/{profile}", { params: { path: { profile } } }));
