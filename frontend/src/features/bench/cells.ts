/** Cells as they change: the bench's own, with texts that are streaming in laid over them. */
import { useCallback, useMemo, useRef, useState } from "react";
import { type Bench, type Cell, queries } from "../../api/client";
import { type News, useNews } from "../../api/live";

export const cellKey = (step: string, sample: number) => `${step}:${sample}`;

/** All cells by step and sample. `stale` lines show their cells as out of date before the server says so. */
export function useCells(bench: Bench, stale: Set<string>): Map<string, Cell> {
  const [running, setRunning] = useState<Map<string, string>>(new Map());
  const timer = useRef(0);

  const hear = useCallback(
    (news: News) => {
      if (news.topic === "page" && news.id === bench.id && news.version > bench.version) {
        queries.invalidateQueries({ queryKey: ["bench", bench.id] });
      }
      if (news.topic !== "proof" || news.workflow !== bench.id) return;
      const key = cellKey(news.step, news.sample);
      if (news.state === "running") {
        setRunning((before) => new Map(before).set(key, news.text ?? ""));
        return;
      }
      window.clearTimeout(timer.current);
      timer.current = window.setTimeout(async () => {
        await queries.refetchQueries({ queryKey: ["bench", bench.id] });
        queries.invalidateQueries({ queryKey: ["cell", bench.id] });
        queries.invalidateQueries({ queryKey: ["values", bench.id] });
      }, 60);
      setRunning((before) => {
        const after = new Map(before);
        after.delete(key);
        return after;
      });
    },
    [bench.id, bench.version],
  );
  useNews(hear);

  return useMemo(() => {
    const out = new Map<string, Cell>();
    for (const cell of bench.cells) {
      const key = cellKey(cell.step, cell.sample);
      const partial = running.get(key);
      if (partial !== undefined) out.set(key, { ...cell, state: "running", partial });
      else if (stale.has(cell.step) && (cell.state === "fresh" || cell.state === "failed"))
        out.set(key, { ...cell, state: "stale" });
      else out.set(key, cell);
    }
    return out;
  }, [bench.cells, running, stale]);
}
