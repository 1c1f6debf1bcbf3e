/** The chosen cells of a grid: moved through by keys, copied, pasted, filled down, emptied. */
import { type ClipboardEvent, type KeyboardEvent, useState } from "react";
import * as reads from "../../../api/reads";
import { say } from "../../../components/Toast";
import { count } from "../../../components/words";
import { type Block, blockOf, type Place, pasted, read, write } from "./block";
import { cellText } from "./cells";
import type { Column } from "./shown";
import type { Row, Rows } from "./useRows";
import type { Writing, Written } from "./useWriting";

const MOST_COPIED = 5000;

export type Acting = {
  pick: (id: number) => void;
  read: (id: number) => void;
  find: () => void;
  /** Bring a cell into sight. */
  see: (place: Place) => void;
  /** How many rows a page has. */
  page: () => number;
};

export function useCells(rows: Rows, columns: Column[], maker: boolean, writing: Writing, acting: Acting) {
  const [at, setAt] = useState<Place>([0, 0]);
  const [from, setFrom] = useState<Place>([0, 0]);
  const [editing, setEditing] = useState<string | null>(null);
  const block: Block = blockOf(at, from);
  const row = rows.at(at[0]);
  const column = columns[at[1]];

  function choose(place: Place, more = false) {
    setAt(place);
    if (!more) setFrom(place);
  }

  function go(to: Place, more = false) {
    const next: Place = [
      Math.min(rows.total - 1, Math.max(0, to[0])),
      Math.min(columns.length - 1, Math.max(0, to[1])),
    ];
    choose(next, more);
    acting.see(next);
  }

  const edit = (text?: string) => maker && row && column && setEditing(text ?? cellText(row, column.name));

  /** The rows of the block; nothing for one that is not here. */
  const blockRows = (): (Row | undefined)[] =>
    Array.from({ length: Math.min(block.rows, MOST_COPIED) }, (_, i) => rows.at(block.top + i));
  const names = () => columns.slice(block.left, block.left + block.columns).map((c) => c.name);
  const put = (into: (Row | undefined)[], cells: Record<string, string>) =>
    writing.write(into.flatMap((one) => (one ? [{ row: one.id, cells }] : [])));

  const clear = () => put(blockRows(), Object.fromEntries(names().map((name) => [name, ""])));

  /** The first row of the block into those below it; into a single row, the one above it. */
  async function fillDown() {
    const source = rows.at(block.rows > 1 ? block.top : block.top - 1);
    if (!source) return;
    const cells = Object.fromEntries(names().map((name) => [name, cellText(source, name)]));
    await put(blockRows().slice(block.rows > 1 ? 1 : 0), cells);
  }

  function copy(event: ClipboardEvent, cut = false) {
    if (editing !== null || !row) return;
    event.preventDefault();
    const found = blockRows();
    if (block.rows > MOST_COPIED || found.some((one) => !one)) {
      say(`Only rows in sight, and some around them, can be copied at once; take the sheet out as a file for more.`);
      return;
    }
    event.clipboardData.setData("text/plain", write(found.map((one) => names().map((name) => cellText(one, name)))));
    if (cut && maker) clear();
  }

  /** A block from a spreadsheet: into the rows from the chosen cell on, and into new rows below the last. */
  async function paste(event: ClipboardEvent) {
    const text = event.clipboardData.getData("text/plain");
    if (!maker || editing !== null || !text) return;
    event.preventDefault();
    const into = rows.total ? block : blockOf([0, 0], [0, 0]);
    const changed = new Map<number, Record<string, string>>();
    for (const { row: index, column: place, text: cell } of pasted(read(text), into)) {
      const name = columns[place]?.name;
      if (name) changed.set(index, { ...changed.get(index), [name]: cell });
    }
    const there: Written = [];
    const fresh: Record<string, string>[] = [];
    for (const [index, cells] of changed) {
      const one = rows.at(index);
      if (one) there.push({ row: one.id, cells });
      else if (index >= rows.total) fresh.push(cells);
    }
    if (there.length + fresh.length < changed.size)
      return say(`So many rows are not in sight: paste into fewer than ${reads.ROWS}, or bring them in as a file.`);
    if ((await writing.write(there, fresh)) && fresh.length) say(`${count(fresh.length, "row")} added.`);
  }

  function press(event: KeyboardEvent) {
    if (editing !== null || event.target !== event.currentTarget) return;
    const end = rows.total - 1;
    const ctrl = event.ctrlKey || event.metaKey;
    const key = event.key.toLowerCase();
    const moves: Record<string, Place> = {
      arrowdown: ctrl ? [end, at[1]] : [at[0] + 1, at[1]],
      arrowup: ctrl ? [0, at[1]] : [at[0] - 1, at[1]],
      arrowright: [at[0], ctrl ? columns.length - 1 : at[1] + 1],
      arrowleft: [at[0], ctrl ? 0 : at[1] - 1],
      pagedown: [at[0] + acting.page(), at[1]],
      pageup: [at[0] - acting.page(), at[1]],
      home: ctrl ? [0, 0] : [at[0], 0],
      end: ctrl ? [end, columns.length - 1] : [at[0], columns.length - 1],
    };
    const to = moves[key];
    if (to) go(to, event.shiftKey);
    else if (ctrl && key === "f") acting.find();
    else if (ctrl && key === "a") {
      setFrom([0, 0]);
      setAt([Math.max(0, end), columns.length - 1]);
    } else if (key === "enter" && event.shiftKey && row) acting.read(row.id);
    else if (!maker || !changes(event, key, ctrl)) return;
    event.preventDefault();
    event.stopPropagation();
  }

  /** What a key changes; whether it is one that does. */
  function changes(event: KeyboardEvent, key: string, ctrl: boolean): boolean {
    if (ctrl && key === "z" && event.shiftKey) writing.redo?.();
    else if (ctrl && key === "z") writing.undo?.();
    else if (ctrl && key === "y") writing.redo?.();
    else if (ctrl && key === "d") fillDown();
    else if (key === " " && event.shiftKey && row) acting.pick(row.id);
    else if (key === " " && !ctrl && column?.type === "yes_no" && row)
      put([row], { [column.name]: cellText(row, column.name) === "yes" ? "no" : "yes" });
    else if (key === "enter" || key === "f2") edit();
    else if (key === "delete" || key === "backspace") clear();
    else if (event.key.length === 1 && !ctrl && !event.altKey && row) edit(event.key);
    else return false;
    return true;
  }

  /** The cell that was written: what it becomes, and where to go next. */
  function done(value: string | null, by?: Place) {
    setEditing(null);
    if (value !== null && row && column && value !== cellText(row, column.name)) put([row], { [column.name]: value });
    if (by) go([at[0] + by[0], at[1] + by[1]]);
  }

  return { at, block, row, column, editing, choose, go, edit, copy, paste, press, done };
}
