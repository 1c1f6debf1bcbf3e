/** Cells as they change: the bench's own, with texts that are streaming in laid over them. */
import { useCallback, useMemo, useRef, useState } from "react";
import { type Bench, type Cell, queries } from "../../../api/client";
import { type News, useNews } from "../../../api/live";
import { staleNow } from "../../../api/mutate";

export const cellKey = (step: string, sample: number) => `${step}:${sample}`;

/** Cells by step and sample, with what is under way laid over them; those of `stale` lines that said something are out of date. */
export function laidOver(
  cells: readonly Cell[],
  running: ReadonlyMap<string, Partial<Cell>>,
  stale: ReadonlySet<string>,
): Map<string, Cell> {
  const out = new Map<string, Cell>();
  for (const cell of cells) {
    const key = cellKey(cell.step, cell.sample);
    const now = running.get(key);
    if (now) out.set(key, { ...cell, ...now });
    else if (stale.has(cell.step) && (cell.state === "fresh" || cell.state === "failed"))
      out.set(key, { ...cell, state: "stale" });
    else out.set(key, cell);
  }
  return out;
}

/** How long news is gathered before the page is fetched again. */
const GATHERED = 60;
const pause = () => new Promise((done) => window.setTimeout(done, GATHERED));

/** Fetch the page again until it is as new as what was heard of: one fetch at a time, however much is heard. */
function useCatchingUp(id: number) {
  const heard = useRef({ version: 0, proofs: false, busy: false });
  return useCallback(
    async (what: { version: number } | "proofs") => {
      const here = heard.current;
      if (what === "proofs") here.proofs = true;
      else here.version = Math.max(here.version, what.version);
      if (here.busy) return;
      here.busy = true;
      const queryKey = ["bench", id];
      const behind = () => here.version > (queries.getQueryData<Bench>(queryKey)?.version ?? 0);
      await pause();
      while ((here.proofs || behind()) && queries.getQueryState(queryKey)?.status === "success") {
        const { proofs } = here;
        here.proofs = false;
        // A fetch under way may have begun before a proof was made; it is likely to have the page's version.
        await queries.refetchQueries({ queryKey }, { cancelRefetch: proofs });
        if (proofs) {
          staleNow(["cell", id]);
          staleNow(["values", id]);
        }
        await pause();
      }
      here.busy = false;
    },
    [id],
  );
}

/** A cell at work: its text so far; inside a block, also how many times it is done. */
export function underWay({ text = "", done = 0, at_work = 0 }: News & { topic: "proof" }): Partial<Cell> {
  const count = done + at_work;
  return {
    state: "running",
    partial: text,
    ...(count ? { count, counts: { fresh: done, running: at_work } } : {}),
  };
}

/** All cells by step and sample. `stale` lines show their cells as out of date before the server says so. */
export function useCells(bench: Bench, stale: Set<string>): Map<string, Cell> {
  const [running, setRunning] = useState<Map<string, Partial<Cell>>>(new Map());
  const catchUp = useCatchingUp(bench.id);

  const hear = useCallback(
    (news: News) => {
      if (news.topic === "page" && news.id === bench.id) catchUp(news);
      if (news.topic !== "proof" || news.workflow !== bench.id) return;
      const key = cellKey(news.step, news.sample);
      if (news.state === "running") {
        setRunning((before) => new Map(before).set(key, underWay(news)));
        return;
      }
      catchUp("proofs");
      setRunning((before) => {
        const after = new Map(before);
        after.delete(key);
        return after;
      });
    },
    [bench.id, catchUp],
  );
  useNews(hear);

  return useMemo(() => laidOver(bench.cells, running, stale), [bench.cells, running, stale]);
}
