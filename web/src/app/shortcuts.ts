import { useSyncExternalStore } from "react";

const KEPT = "lumtar-single-keys";
const changed = new Set<() => void>();
let on = localStorage.getItem(KEPT) !== "off";

/** Whether keys that are one character alone do anything (WCAG 2.1.4): they disturb who speaks to the machine. */
export const areSingleKeysOn = () => on;

/** Switch them on or off; this browser remembers it. */
export function setSingleKeys(wanted: boolean) {
  on = wanted;
  localStorage.setItem(KEPT, wanted ? "on" : "off");
  for (const tell of changed) tell();
}

const subscribe = (tell: () => void) => {
  changed.add(tell);
  return () => changed.delete(tell);
};

export const useSingleKeys = () => useSyncExternalStore(subscribe, areSingleKeysOn);
