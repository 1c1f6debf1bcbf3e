/** Who else is on this page, and where; told from browser to browser, kept nowhere. */
import { useCallback, useEffect, useState } from "react";
import { api } from "../../api/client";
import { type News, useNews } from "../../api/live";

const EVERY = 8000;
const FORGET = 20_000;

export type Other = { who: string; name: string; line: string; at: number };

/** The others on the page; tells them in turn where we are. */
export function usePresence(workflow: number, me: string, line: string | null): Other[] {
  const [others, setOthers] = useState<Other[]>([]);
  useNews(
    useCallback(
      (news: News) => {
        if (news.topic !== "here" || news.id !== workflow || news.who === me) return;
        setOthers((before) => [
          ...before.filter((o) => o.who !== news.who),
          ...(news.leaving ? [] : [{ who: news.who, name: news.name, line: news.line, at: Date.now() }]),
        ]);
      },
      [workflow, me],
    ),
  );
  useEffect(() => {
    const path = { params: { path: { id: workflow } } };
    const tell = (leaving: boolean) =>
      api.POST("/api/workflows/{id}/here", { ...path, body: { line: line ?? "", leaving } }).catch(() => undefined);
    tell(false);
    const timer = window.setInterval(() => {
      tell(false);
      setOthers((before) => {
        const still = before.filter((o) => Date.now() - o.at < FORGET);
        return still.length === before.length ? before : still;
      });
    }, EVERY);
    return () => {
      window.clearInterval(timer);
      tell(true);
    };
  }, [workflow, line]);
  return others;
}
