import { useEffect, useState } from "react";

/** What is typed, once the typing pauses: for questions that are asked while somebody writes. */
export function useTyped<T>(value: T, pause = 350): T {
  const [settled, setSettled] = useState(value);
  useEffect(() => {
    const timer = setTimeout(() => setSettled(value), pause);
    return () => clearTimeout(timer);
  }, [value, pause]);
  return settled;
}
