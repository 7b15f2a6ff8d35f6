import { useSearchParams } from "react-router";
import { FillsUp } from "./FillsUp";
import { TopLists } from "./TopLists";

/** What is busiest, what is worst, and when it will be full. */
export function Plan() {
  const [search] = useSearchParams();
  return search.get("show") === "full" ? <FillsUp /> : <TopLists />;
}
