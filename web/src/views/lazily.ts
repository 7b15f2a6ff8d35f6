import { type ComponentType, lazy } from "react";

/** A view whose code is fetched when it is opened first. */
export const lazily = <Name extends string>(load: () => Promise<Record<Name, ComponentType>>, name: Name) =>
  lazy(async (): Promise<{ default: ComponentType }> => ({ default: (await load())[name] })) as ComponentType;
