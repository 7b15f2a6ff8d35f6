import { useSearchParams } from "react-router";
import { useSetSearch } from "../../app/useSetSearch";

/** The ports that were chosen to be seen together; they live in the address. */
export function usePicked() {
  const [search] = useSearchParams();
  const set = useSetSearch();
  const picked = (search.get("ports") ?? "").split(",").filter(Boolean).map(Number);
  const put = (ports: number[]) => set({ ports: ports.join() });
  return {
    picked,
    isPicked: (port: number) => picked.includes(port),
    toggle: (port: number) => put(picked.includes(port) ? picked.filter((each) => each !== port) : [...picked, port]),
    clear: () => put([]),
  };
}
