/** Writing into a sheet: many cells at once, and what was written taken back and done again. */
import { useState } from "react";
import { api } from "../../../api/client";
import { mutate, staleNow } from "../../../api/mutate";
import { say, sayError } from "../../../components/Toast";
import { count } from "../../../components/words";

type Cells = Record<string, string>;
export type Written = { row: number; cells: Cells }[];

export type Writing = {
  write: (rows: Written, add?: Cells[]) => Promise<boolean>;
  remove: (ids: number[]) => Promise<boolean>;
  undo?: () => Promise<void>;
  redo?: () => Promise<void>;
};

export function useWriting(key: string): Writing {
  const [done, setDone] = useState<number[][]>([]);
  const [undone, setUndone] = useState<number[][]>([]);
  const path = { params: { path: { key } } };

  const fresh = () => staleNow(["sheet", key], "sheets");

  async function tried(work: () => Promise<{ changes: number[] }>): Promise<boolean> {
    try {
      const { changes } = await work();
      // Noted before the rows are read anew: what one sees can be taken back.
      if (changes.length) {
        setDone((before) => [...before.slice(-99), changes]);
        setUndone([]);
      }
      await fresh();
      return true;
    } catch (error) {
      sayError(error);
      return false;
    }
  }

  /** Take the last of one pile back, and put what that changed on the other. */
  async function back(from: number[][], setFrom: typeof setDone, setTo: typeof setDone) {
    const ids = from.at(-1);
    if (!ids) return;
    setFrom((before) => before.slice(0, -1));
    try {
      const told = await mutate(api.POST("/api/row-changes/undo", { body: { ids } }), "nothing");
      if (told.changes.length) setTo((before) => [...before, told.changes]);
      if (told.left.length)
        say(
          told.left.length === 1
            ? told.left[0]!
            : `${count(told.left.length, "row")} left as they are: ${told.left[0]}`,
        );
      await fresh();
    } catch (error) {
      sayError(error);
    }
  }

  return {
    write: (rows, add = []) =>
      tried(() => mutate(api.POST("/api/sheets/{key}/write", { ...path, body: { rows, add } }), "nothing")),
    remove: (ids) =>
      tried(() => mutate(api.POST("/api/sheets/{key}/rows/delete", { ...path, body: { ids } }), "nothing")),
    undo: done.length ? () => back(done, setDone, setUndone) : undefined,
    redo: undone.length ? () => back(undone, setUndone, setDone) : undefined,
  };
}
