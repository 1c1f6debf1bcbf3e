/** Keys typed while a line is being made belong to its first field: they are held until that is there. */
import { typing } from "../../../components/keys";

const LONGEST = 2000;
/** What is held beside letters; Shift and its like are no keys of their own. */
const HELD = ["Backspace", "Enter", "Escape"];
let held: string[] | null = null;
let timer = 0;

function hold(event: KeyboardEvent) {
  if (!held || typing(event.target) || event.ctrlKey || event.metaKey || event.altKey) return;
  if (event.key.length > 1 && !HELD.includes(event.key)) return;
  event.preventDefault();
  event.stopImmediatePropagation();
  held.push(event.key);
}

/** Hold the keys from now on, for two seconds at most. */
export function holdKeys() {
  if (!held) window.addEventListener("keydown", hold, true);
  held = [];
  window.clearTimeout(timer);
  timer = window.setTimeout(() => giveKeys(null), LONGEST);
}

/** Give a field the cursor and what was typed meanwhile, unless another has it by now; from Escape on, and where there is no
 * field, the keys are the page's. */
export function giveKeys(first: HTMLElement | null) {
  const field = typing(document.activeElement) ? null : first;
  const [text, rest] = parted(held ?? [], !!field);
  held = null;
  window.clearTimeout(timer);
  window.removeEventListener("keydown", hold, true);
  field?.focus({ preventScroll: true });
  if (field?.isContentEditable) {
    getSelection()?.selectAllChildren(field);
    getSelection()?.collapseToEnd();
  }
  // As if it were typed, so that the field's own hands take it.
  if (text) document.execCommand("insertText", false, text);
  for (const key of rest) {
    const at = document.activeElement ?? document.body;
    at.dispatchEvent(new KeyboardEvent("keydown", { key, bubbles: true, cancelable: true }));
  }
}

/** What of some keys is text for a field, and which keys follow it. */
export function parted(keys: string[], field: boolean): [text: string, rest: string[]] {
  if (!field) return ["", keys];
  const end = keys.findIndex((key) => key.length > 1 && key !== "Backspace");
  const [typed, rest] = end < 0 ? [keys, []] : [keys.slice(0, end), keys.slice(end)];
  const text = typed.reduce((all, key) => (key === "Backspace" ? all.slice(0, -1) : all + key), "");
  return [text, rest];
}
