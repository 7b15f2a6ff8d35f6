import { useQuery } from "@tanstack/react-query";
import { useEffect } from "react";
import { useNavigate, useSearchParams } from "react-router";
import { watchedQuery } from "../../api/trafficQueries";

/** An address that names watched traffic, as alarms do, becomes one with its filters. */
export function useWatched() {
  const [search] = useSearchParams();
  const navigate = useNavigate();
  const number = search.get("watched");
  const { data } = useQuery({ ...watchedQuery, enabled: Boolean(number) });
  const found = data?.find(({ id }) => String(id) === number);
  useEffect(() => {
    if (found) navigate(`/traffic?${new URLSearchParams(found.filters)}`, { replace: true });
  }, [found, navigate]);
}
