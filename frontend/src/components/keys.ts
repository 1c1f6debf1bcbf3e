import { useEffect, useRef } from "react";

/** Whether keys belong to a text being typed. */
export function typing(target: EventTarget | null): boolean {
  const element = target as HTMLElement | null;
  return !!element?.closest("input, textarea, select, [contenteditable=true], [role=dialog], [role=menu]");
}

/** Single keys that do something while nothing is being typed. */
export function useKeys(keys: Record<string, (event: KeyboardEvent) => void>) {
  const now = useRef(keys);
  now.current = keys;
  useEffect(() => {
    const press = (event: KeyboardEvent) => {
      if (event.ctrlKey || event.metaKey || event.altKey || event.defaultPrevented || typing(event.target)) return;
      // Enter and the space bar belong to the button or link that has the focus.
      if ((event.key === "Enter" || event.key === " ") && (event.target as Element).closest?.("button, a")) return;
      const act = now.current[event.key];
      if (act) {
        event.preventDefault();
        act(event);
      }
    };
    window.addEventListener("keydown", press);
    return () => window.removeEventListener("keydown", press);
  }, []);
}
