/** Live events: what changed on the server, for whatever is open. */
import { useEffect, useState } from "react";
import { anew, staleNow } from "./mutate";
import type { Topic } from "./reads";

export type News =
  | { topic: "run" | "approval" | "piece" | "workflow"; id: number }
  | { topic: "outside"; id: string }
  | { topic: "notice" }
  | { topic: "sheet"; key: string }
  | { topic: "cell"; key: string; who: string; name: string; row: number; column: string; leaving: boolean }
  | { topic: "comparison"; workflow: number; done: number; of: number }
  | { topic: "bringing"; mark: string; rows: number }
  | { topic: "page"; id: number; version: number }
  | { topic: "here"; id: number; who: string; name: string; line: string; leaving: boolean }
  | {
      topic: "proof";
      workflow: number;
      sample: number;
      step: string;
      state: "running" | "made";
      text?: string;
      done?: number;
      at_work?: number;
    };

const listeners = new Set<(news: News) => void>();

/** What each piece of news makes stale. */
const CONCERNS: Record<News["topic"], Topic[]> = {
  run: ["runs", "run", "today", "workflows"],
  approval: ["approvals", "approval", "stack", "today", "workflows"],
  piece: ["today", "run", "runs", "calendar", "mailing"],
  workflow: ["workflows", "today", "bench", "calendar"],
  outside: ["today", "connections", "run"],
  notice: ["notices", "today"],
  sheet: ["sheet", "sheets"],
  page: [],
  here: [],
  cell: [],
  bringing: [],
  comparison: [],
  proof: [],
};

/** Hear every piece of news while mounted. */
export function useNews(hear: (news: News) => void) {
  useEffect(() => {
    listeners.add(hear);
    return () => {
      listeners.delete(hear);
    };
  }, [hear]);
}

/** Listen to the server while signed in; says whether the line stands. */
export function useLine(signedIn: boolean): boolean {
  const [open, setOpen] = useState(true);
  useEffect(() => {
    if (!signedIn) return;
    const due = new Set<Topic>();
    let timer = 0;
    let again = 0;
    let first = true;
    let source: EventSource;
    const hear = (message: MessageEvent) => {
      const news = JSON.parse(message.data) as News;
      for (const listener of listeners) listener(news);
      // A page opened before the house was renewed may hear of what it does not know yet.
      for (const key of CONCERNS[news.topic] ?? []) due.add(key);
      // Gathered for a moment, so that a burst of events reloads each view once.
      if (due.size && !timer) {
        timer = window.setTimeout(() => {
          timer = 0;
          staleNow(...due);
          due.clear();
        }, 120);
      }
    };
    const listen = () => {
      source = new EventSource("/api/events");
      source.onmessage = hear;
      source.onopen = () => {
        // What was read before the line stood may have changed since, and nobody told.
        if (first) staleNow(...new Set(Object.values(CONCERNS).flat()));
        first = false;
        setOpen((before) => {
          if (!before) anew();
          return true;
        });
      };
      source.onerror = () => {
        setOpen(false);
        // The browser tries again by itself after a broken line, but not after a refusal.
        if (source.readyState === EventSource.CLOSED) again = window.setTimeout(listen, 3000);
      };
    };
    listen();
    return () => {
      source.close();
      window.clearTimeout(again);
      window.clearTimeout(timer);
    };
  }, [signedIn]);
  return open;
}
