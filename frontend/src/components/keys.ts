import { useEffect, useRef, useSyncExternalStore } from "react";

const OFF = "ulmus.single-keys-off";
const listeners = new Set<() => void>();
/** Whether keys act that are pressed alone (WCAG 2.2, 2.1.4): whoever speaks to their computer turns them off. */
export const singleKeys = {
  get on() {
    return localStorage.getItem(OFF) === null;
  },
  set on(on: boolean) {
    if (on) localStorage.removeItem(OFF);
    else localStorage.setItem(OFF, "1");
    for (const listener of listeners) listener();
  },
};

export function useSingleKeys(): boolean {
  return useSyncExternalStore(
    (listener) => {
      listeners.add(listener);
      return () => listeners.delete(listener);
    },
    () => singleKeys.on,
  );
}

/** Whether keys belong to a text being typed. */
export function typing(target: EventTarget | null): boolean {
  return (
    target instanceof Element &&
    !!target.closest("input, textarea, select, [contenteditable=true], [role=dialog], [role=menu]")
  );
}

/** Whether a dialog has the focus, but no field of it. */
function onPaper(target: EventTarget | null): boolean {
  return (
    !(target instanceof Element) || !target.closest("input, textarea, select, [contenteditable=true], [role=menu]")
  );
}

/** Keys that do something while nothing is being typed; `Mod+z` is Ctrl or Cmd with z, `Alt+ArrowUp` Alt with an arrow. */
export function useKeys(keys: Record<string, (event: KeyboardEvent) => void>, inDialog = false) {
  const now = useRef(keys);
  now.current = keys;
  useEffect(() => {
    const press = (event: KeyboardEvent) => {
      if (event.defaultPrevented || (typing(event.target) && !(inDialog && onPaper(event.target)))) return;
      // Enter and the space bar belong to the button or link that has the focus.
      if ((event.key === "Enter" || event.key === " ") && (event.target as Element).closest?.("button, a")) return;
      if (event.key.length === 1 && !event.ctrlKey && !event.metaKey && !event.altKey && !singleKeys.on) return;
      const held = `${event.ctrlKey || event.metaKey ? "Mod+" : ""}${event.altKey ? "Alt+" : ""}`;
      const act = now.current[held + (held && event.key.length === 1 ? event.key.toLowerCase() : event.key)];
      if (act) {
        event.preventDefault();
        act(event);
      }
    };
    window.addEventListener("keydown", press);
    return () => window.removeEventListener("keydown", press);
  }, [inDialog]);
}

/** For a part that scrolls by itself and has nothing in it to go to: it can be reached and scrolled by keys. */
export const reached = (name: string) => ({ tabIndex: 0, role: "group", "aria-label": name }) as const;
