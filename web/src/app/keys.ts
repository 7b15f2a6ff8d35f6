import { useEffect } from "react";
import { areSingleKeysOn } from "./shortcuts";

const typing = (target: EventTarget | null) =>
  target instanceof HTMLElement && (target.isContentEditable || /^(INPUT|TEXTAREA|SELECT)$/.test(target.tagName));

/** Keys of the whole screen; what is typed into a field is not one. */
export function useKeys(keys: Record<string, () => void>) {
  useEffect(() => {
    const press = (event: KeyboardEvent) => {
      if (typing(event.target) || event.ctrlKey || event.metaKey || event.altKey) return;
      const action = keys[event.key];
      const isSingle = event.key.length === 1;
      if (!action || (isSingle && !areSingleKeysOn()) || document.querySelector("[role=dialog]")) return;
      event.preventDefault();
      action();
    };
    window.addEventListener("keydown", press);
    return () => window.removeEventListener("keydown", press);
  });
}

/** j and k move through whatever rows are on screen; Enter follows the row's own link. */
export function useRowKeys() {
  const move = (by: number) => {
    const rows = [...document.querySelectorAll<HTMLElement>("[data-row]")];
    const here = rows.indexOf(document.activeElement as HTMLElement);
    const next = rows[here < 0 ? (by > 0 ? 0 : rows.length - 1) : Math.min(rows.length - 1, Math.max(0, here + by))];
    next?.focus();
    next?.scrollIntoView({ block: "nearest" });
  };
  useKeys({ j: () => move(1), k: () => move(-1) });
}
