import { useSyncExternalStore } from "react";

export type Theme = "light" | "dark";
const KEPT = "lumtar-theme";
const changed = new Set<() => void>();

function initial(): Theme {
  const kept = localStorage.getItem(KEPT);
  if (kept === "light" || kept === "dark") return kept;
  return matchMedia("(prefers-color-scheme: dark)").matches ? "dark" : "light";
}

let theme = initial();
document.documentElement.dataset.theme = theme;

/** Choose a theme; this browser remembers it. */
export function setTheme(wanted: Theme) {
  theme = wanted;
  localStorage.setItem(KEPT, wanted);
  document.documentElement.dataset.theme = wanted;
  for (const tell of changed) tell();
}

const subscribe = (tell: () => void) => {
  changed.add(tell);
  return () => changed.delete(tell);
};

/** The theme in force. */
export const useTheme = () => useSyncExternalStore(subscribe, () => theme);

/** The value of a colour token, for canvases. */
export const colour = (name: string) => getComputedStyle(document.documentElement).getPropertyValue(`--${name}`).trim();
