import { useParams, useSearchParams } from "react-router";

/** Addresses along the trail: they keep the list, its filter and order, and the screen's time. */
export function useTrail() {
  const [search] = useSearchParams();
  const { kind, number } = useParams();
  const here = (changes: Record<string, string | null>) => {
    const next = new URLSearchParams(search);
    for (const [key, value] of Object.entries(changes)) {
      if (value === null || value === "") next.delete(key);
      else next.set(key, value);
    }
    const text = next.toString();
    return text ? `?${text}` : "";
  };
  return {
    /** Whether this is the thing that is open. */
    isOpen: (what: "device" | "port", id: number) => kind === what && Number(number) === id,
    thing: (what: "device" | "port", id: number) => `/fleet/${what}/${id}${here({})}`,
    /** A device's port, with the device's ports as the list beside it. */
    portOf: (device: number, id: number) => `/fleet/port/${id}${here({ device: String(device) })}`,
    site: (name: string) => `/fleet${here({ site: name, group: null, device: null })}`,
    group: (id: number) => `/fleet${here({ site: null, group: String(id), device: null })}`,
    list: (changes: Record<string, string | null> = {}) => `/fleet${here(changes)}`,
    stay: here,
  };
}
