import { useSyncExternalStore } from "react";

const SMALL = "(max-width: 400px) and (max-height: 300px)";
const media = () => (typeof matchMedia === "undefined" ? null : matchMedia(SMALL));

/** Whether the window is so small that only how bad it is can be shown. */
export const useIsTile = () =>
  useSyncExternalStore(
    (tell) => {
      const list = media();
      list?.addEventListener("change", tell);
      return () => list?.removeEventListener("change", tell);
    },
    () => media()?.matches ?? false,
  );
