import type { ComponentType } from "react";
import type { Role } from "../../app/session";
import { lazily } from "../lazily";

export type SetupPage = {
  path: string;
  name: string;
  /** What it is for, on the start page. */
  purpose: string;
  View: ComponentType;
  needs: Role;
  /** Not for those who are limited to a part of the network. */
  whole?: boolean;
};

const engineer = { needs: "engineer", whole: true } as const;
const administrator = { needs: "administrator", whole: true } as const;
const operator = { needs: "operator", whole: true } as const;
const viewer = { needs: "viewer" } as const;

/** The pages of the set-up, grouped by what one wants to do; those that somebody may not open are not shown to them. */
export const GROUPS: { name: string; pages: SetupPage[] }[] = [
  {
    name: "Add devices",
    pages: [
      {
        path: "add",
        name: "Add a device",
        purpose: "One address: try it out, then add it.",
        View: lazily(() => import("./AddOne"), "AddOne"),
        ...engineer,
      },
      {
        path: "list",
        name: "Add a list",
        purpose: "Addresses or CSV, pasted or from a file.",
        View: lazily(() => import("./AddMany"), "AddMany"),
        ...engineer,
      },
      {
        path: "sweeps",
        name: "Sweeps",
        purpose: "Scan address ranges, once or on a schedule.",
        View: lazily(() => import("./Sweeps"), "Sweeps"),
        ...engineer,
      },
      {
        path: "admission",
        name: "Admission rules",
        purpose: "What happens to devices that a sweep finds.",
        View: lazily(() => import("./Admission"), "Admission"),
        ...engineer,
      },
      {
        path: "controllers",
        name: "Controllers",
        purpose: "Managers of overlays and firewalls, and their members.",
        View: lazily(() => import("../controllers/Controllers"), "Controllers"),
        ...engineer,
      },
      {
        path: "retired",
        name: "Retired devices",
        purpose: "No longer polled; restore or delete them.",
        View: lazily(() => import("./Retired"), "Retired"),
        ...viewer,
      },
    ],
  },
  {
    name: "Polling",
    pages: [
      {
        path: "credentials",
        name: "Credentials",
        purpose: "How devices are spoken to, and where each may be sent.",
        View: lazily(() => import("./Credentials"), "Credentials"),
        ...engineer,
      },
      {
        path: "profiles",
        name: "Profiles",
        purpose: "What is read from each kind of device.",
        View: lazily(() => import("./Profiles"), "Profiles"),
        ...engineer,
      },
      {
        path: "traffic",
        name: "Traffic",
        purpose: "Applications of your own, autonomous systems and places.",
        View: lazily(() => import("./TrafficSetup"), "TrafficSetup"),
        ...engineer,
      },
      {
        path: "labels",
        name: "Labels and roles",
        purpose: "What ports are called and what they are for.",
        View: lazily(() => import("./Labels"), "Labels"),
        ...engineer,
      },
      {
        path: "groups",
        name: "Groups",
        purpose: "Ports that are totalled and compared together.",
        View: lazily(() => import("./Groups"), "Groups"),
        ...engineer,
      },
      {
        path: "fields",
        name: "Own fields",
        purpose: "What you want to note of each device.",
        View: lazily(() => import("./OwnFields"), "OwnFields"),
        ...engineer,
      },
    ],
  },
  {
    name: "Who is called",
    pages: [
      {
        path: "plans",
        name: "Call plans",
        purpose: "Who is called for an alarm, in which steps.",
        View: lazily(() => import("../calling/Plans"), "Plans"),
        ...engineer,
      },
      {
        path: "teams",
        name: "Teams",
        purpose: "Who is on duty, in turns, and who stands in.",
        View: lazily(() => import("../calling/Teams"), "Teams"),
        ...engineer,
      },
      {
        path: "contacts",
        name: "Contacts",
        purpose: "People and systems, and how to reach them.",
        View: lazily(() => import("../calling/Contacts"), "Contacts"),
        ...engineer,
      },
      {
        path: "messages",
        name: "Messages",
        purpose: "What was sent to whom, with what answer.",
        View: lazily(() => import("../calling/Messages"), "Messages"),
        needs: "viewer",
        whole: true,
      },
      {
        path: "destinations",
        name: "Destinations",
        purpose: "Where messages may be sent.",
        View: lazily(() => import("../calling/Destinations"), "Destinations"),
        ...engineer,
      },
    ],
  },
  {
    name: "People",
    pages: [
      {
        path: "account",
        name: "My account",
        purpose: "Password and sessions.",
        View: lazily(() => import("./Account"), "Account"),
        ...viewer,
      },
      {
        path: "tokens",
        name: "Tokens",
        purpose: "Access for scripts.",
        View: lazily(() => import("./Tokens"), "Tokens"),
        ...viewer,
      },
      {
        path: "people",
        name: "People and roles",
        purpose: "Who may sign in, and what they may see and do.",
        View: lazily(() => import("./People"), "People"),
        ...administrator,
      },
      {
        path: "audit",
        name: "Audit trail",
        purpose: "Who changed what, from what to what.",
        View: lazily(() => import("./Audit"), "Audit"),
        ...administrator,
      },
    ],
  },
  {
    name: "Lumtar itself",
    pages: [
      {
        path: "services",
        name: "Services",
        purpose: "What runs, how far behind it is, and periodic jobs.",
        View: lazily(() => import("./Services"), "Services"),
        ...operator,
      },
      {
        path: "check",
        name: "Self-check",
        purpose: "Tests of the installation.",
        View: lazily(() => import("./SelfCheck"), "SelfCheck"),
        ...operator,
      },
      {
        path: "storage",
        name: "Storage",
        purpose: "How long readings and sums are kept.",
        View: lazily(() => import("./Storage"), "Storage"),
        ...engineer,
      },
    ],
  },
];

export const PAGES = GROUPS.flatMap((group) => group.pages);
