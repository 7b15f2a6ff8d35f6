import type { ComponentType } from "react";
import { lazily } from "./lazily";
import { PAGES } from "./setup/pages";

/** Something that can be opened by its address; ``{port}`` and ``{device}`` stand for numbers. */
export type Goal = { address: string; name: string };

export type View = {
  /** Its routes; the first one is its place in the bar. */
  paths: [string, ...string[]];
  name: string;
  /** The key that opens it. */
  key: string;
  View: ComponentType;
  /** What the jump box offers of it. */
  goals: Goal[];
};

/** Every view. Routes, the bar at the top, the jump box, the list of keys and the accessibility test are made from this. */
export const VIEWS: View[] = [
  {
    paths: ["/"],
    name: "Now",
    key: "1",
    View: lazily(() => import("./now/Now"), "Now"),
    goals: [{ address: "/", name: "Now" }],
  },
  {
    paths: ["/fleet", "/fleet/:kind/:number"],
    name: "Fleet",
    key: "2",
    View: lazily(() => import("./fleet/Fleet"), "Fleet"),
    goals: [
      { address: "/fleet", name: "Fleet: ports" },
      { address: "/fleet?list=devices", name: "Fleet: devices" },
      { address: "/fleet?list=inventory", name: "Fleet: inventory" },
      { address: "/fleet?list=grid", name: "Fleet: grid of ports" },
    ],
  },
  {
    paths: ["/map"],
    name: "Map",
    key: "3",
    View: lazily(() => import("./map/NetworkMap"), "NetworkMap"),
    goals: [
      { address: "/map", name: "Map: sites" },
      { address: "/map?show=devices", name: "Map: all devices" },
      { address: "/map?table=1", name: "Map: links as a table" },
    ],
  },
  {
    paths: ["/traffic"],
    name: "Traffic",
    key: "4",
    View: lazily(() => import("./traffic/Traffic"), "Traffic"),
    goals: [
      { address: "/traffic", name: "Traffic: applications" },
      { address: "/traffic?by=conversation", name: "Traffic: conversations" },
      { address: "/traffic?by=site", name: "Traffic: between sites" },
      { address: "/traffic?list=records", name: "Traffic: records as they come" },
      { address: "/traffic?list=strangers", name: "Traffic: strangers and known addresses" },
      { address: "/traffic?list=captures", name: "Traffic: captures" },
      { address: "/traffic?application=0&by=port", name: "Traffic: unknown applications" },
    ],
  },
  {
    paths: ["/paths", "/paths/:number"],
    name: "Paths",
    key: "8",
    View: lazily(() => import("./paths/Paths"), "Paths"),
    goals: [
      { address: "/paths", name: "Paths: delay" },
      { address: "/paths?measure=path_loss", name: "Paths: loss" },
      { address: "/paths?measure=path_mos", name: "Paths: how calls sound" },
      { address: "/paths?edit=new", name: "Paths: new path" },
      { address: "/paths?list=levels", name: "Paths: service levels" },
      { address: "/paths?list=transports", name: "Paths: transports in use" },
      { address: "/paths?list=question", name: "Was it the network?" },
    ],
  },
  {
    paths: ["/alarms", "/alarms/:number", "/alarms/rules/:rule"],
    name: "Alarms",
    key: "5",
    View: lazily(() => import("./alarms/Alarms"), "Alarms"),
    goals: [
      { address: "/alarms", name: "Alarms: active, and rules" },
      { address: "/alarms?show=shelved", name: "Alarms: shelved" },
      { address: "/alarms?show=all", name: "Alarms: history" },
      { address: "/alarms?show=maintenance", name: "Alarms: maintenance" },
      { address: "/alarms/rules/new", name: "Alarms: new rule" },
    ],
  },
  {
    paths: ["/plan"],
    name: "Plan",
    key: "6",
    View: lazily(() => import("./plan/Plan"), "Plan"),
    goals: [
      { address: "/plan", name: "Plan: busiest ports" },
      { address: "/plan?show=full", name: "Plan: what fills up" },
      { address: "/plan?by=errors", name: "Plan: ports with most errors" },
      { address: "/plan?by=empty", name: "Plan: emptiest ports" },
    ],
  },
  {
    paths: ["/setup", "/setup/:part"],
    name: "Setup",
    key: "7",
    View: lazily(() => import("./setup/Setup"), "Setup"),
    goals: [
      { address: "/setup", name: "Setup" },
      ...PAGES.map(({ path, name }) => ({ address: `/setup/${path}`, name: `Setup: ${name.toLowerCase()}` })),
    ],
  },
];

/** Pages of one thing, which no list of goals names: for tests that go through everything. */
export const OF_ONE: Goal[] = [
  { address: "/fleet/device/{device}", name: "Device" },
  { address: "/fleet/port/{port}", name: "Port" },
  { address: "/fleet?list=total&role=any", name: "Total" },
  { address: "/fleet?list=live&ports={port}", name: "Live" },
  { address: "/alarms/rules/new?ready=Load of uplinks, WAN and trunks", name: "Recommended rule" },
];
