import { useCallback } from "react";
import { useSearchParams } from "react-router";

/** Changes what the address holds, without a step in the history; an empty value goes from it. */
export function useSetSearch(): (changes: Record<string, string>) => void {
  const [, setSearch] = useSearchParams();
  return useCallback(
    (changes) =>
      setSearch(
        (before) => {
          const next = new URLSearchParams(before);
          for (const [key, value] of Object.entries(changes)) {
            if (value) next.set(key, value);
            else next.delete(key);
          }
          return next;
        },
        { replace: true },
      ),
    [setSearch],
  );
}
