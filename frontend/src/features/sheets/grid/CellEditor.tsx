import { useRef, useState } from "react";
import type { Column } from "../model/shown";

export type Step = [down: number, right: number];

/** A cell being written: a choice for a column of choices, else a text that grows over the cells below. */
export function CellEditor({
  column,
  text,
  onDone,
}: {
  column: Column;
  text: string;
  /** What it becomes (nothing where it stays), and where to go next. */
  onDone: (value: string | null, by?: Step) => void;
}) {
  const [value, setValue] = useState(text);
  const done = useRef(false);
  const finish = (kept: string | null, by?: Step) => {
    if (done.current) return;
    done.current = true;
    onDone(kept, by);
  };
  const keys = (event: React.KeyboardEvent) => {
    if (event.key === "Enter" && !event.altKey && !event.shiftKey) finish(value, [1, 0]);
    else if (event.key === "Tab") finish(value, [0, event.shiftKey ? -1 : 1]);
    else if (event.key === "Escape") finish(null);
    else if (event.key === "Enter" && event.target instanceof HTMLTextAreaElement) {
      const area = event.target;
      area.setRangeText("\n", area.selectionStart, area.selectionEnd, "end");
      setValue(area.value);
    } else {
      event.stopPropagation();
      return;
    }
    event.preventDefault();
    event.stopPropagation();
  };
  const choices = column.type === "yes_no" ? ["yes", "no"] : column.type === "choice" ? (column.choices ?? []) : [];
  if (choices.length)
    return (
      <select
        // biome-ignore lint/a11y/noAutofocus: the cell one begins to write in
        autoFocus
        aria-label="Cell"
        value={choices.includes(value) ? value : ""}
        onChange={(e) => finish(e.target.value)}
        onBlur={() => finish(null)}
        onKeyDown={keys}
        className="-mx-1 -my-0.5 w-full bg-paper text-sm outline-none"
      >
        <option value="">{choices.includes(value) || !value ? "" : value}</option>
        {choices.map((one) => (
          <option key={one}>{one}</option>
        ))}
      </select>
    );
  const lines = Math.min(9, Math.max(1, value.split("\n").length, Math.ceil(value.length / 44)));
  return (
    <textarea
      // biome-ignore lint/a11y/noAutofocus: the cell one begins to write in
      autoFocus
      aria-label="Cell"
      rows={lines}
      value={value}
      onChange={(e) => setValue(e.target.value)}
      onFocus={(e) => e.target.setSelectionRange(value.length, value.length)}
      onBlur={() => finish(value)}
      onKeyDown={keys}
      className={`absolute top-0 left-0 z-30 block resize-none bg-paper px-2 py-1.5 text-sm leading-5 outline-2 outline-leaf ${lines > 1 ? "w-full min-w-80 shadow-lg" : "h-full w-full"}`}
    />
  );
}
