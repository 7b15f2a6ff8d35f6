import type { ComponentType } from "react";
import type { Role } from "../../app/session";
import { Account } from "./Account";
import { AddMany } from "./AddMany";
import { AddOne } from "./AddOne";
import { Admission } from "./Admission";
import { Audit } from "./Audit";
import { Credentials } from "./Credentials";
import { Groups } from "./Groups";
import { Labels } from "./Labels";
import { OwnFields } from "./OwnFields";
import { People } from "./People";
import { Profiles } from "./Profiles";
import { Retired } from "./Retired";
import { SelfCheck } from "./SelfCheck";
import { Services } from "./Services";
import { Storage } from "./Storage";
import { Sweeps } from "./Sweeps";
import { Tokens } from "./Tokens";

export type Part = {
  path: string;
  name: string;
  View: ComponentType;
  needs: Role;
  /** Not for those who are limited to a part of the network. */
  whole?: boolean;
};

/** The parts of the set-up by what one wants to do; who may not is not shown them. */
export const GROUPS: { name: string; parts: Part[] }[] = [
  {
    name: "Get devices in",
    parts: [
      { path: "add", name: "Add a device", View: AddOne, needs: "engineer", whole: true },
      { path: "list", name: "Add a list", View: AddMany, needs: "engineer", whole: true },
      { path: "sweeps", name: "Sweeps", View: Sweeps, needs: "engineer", whole: true },
      { path: "admission", name: "Admission rules", View: Admission, needs: "engineer", whole: true },
      { path: "retired", name: "Retired devices", View: Retired, needs: "viewer" },
    ],
  },
  {
    name: "How they are read",
    parts: [
      { path: "credentials", name: "Credentials", View: Credentials, needs: "engineer", whole: true },
      { path: "profiles", name: "Profiles", View: Profiles, needs: "engineer", whole: true },
      { path: "labels", name: "Labels and roles", View: Labels, needs: "engineer", whole: true },
      { path: "groups", name: "Groups", View: Groups, needs: "engineer", whole: true },
      { path: "fields", name: "Own fields", View: OwnFields, needs: "engineer", whole: true },
    ],
  },
  {
    name: "People",
    parts: [
      { path: "account", name: "My account", View: Account, needs: "viewer" },
      { path: "tokens", name: "Tokens", View: Tokens, needs: "viewer" },
      { path: "people", name: "People and roles", View: People, needs: "administrator", whole: true },
      { path: "audit", name: "Audit trail", View: Audit, needs: "administrator", whole: true },
    ],
  },
  {
    name: "Lumtar itself",
    parts: [
      { path: "services", name: "Services", View: Services, needs: "operator", whole: true },
      { path: "check", name: "Self-check", View: SelfCheck, needs: "operator", whole: true },
      { path: "storage", name: "Storage", View: Storage, needs: "engineer", whole: true },
    ],
  },
];
