import { useEffect, useState } from "react";

/** What was typed, once the typing has stopped. */
export function useSettled(value: string) {
  const [settled, setSettled] = useState(value);
  useEffect(() => {
    const timer = setTimeout(() => setSettled(value.trim()), 250);
    return () => clearTimeout(timer);
  }, [value]);
  return settled;
}
