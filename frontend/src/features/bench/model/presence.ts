/** Who else is on this page, and where; told from browser to browser, kept nowhere. */
import { useCallback, useEffect, useRef, useState } from "react";
import { api } from "../../../api/client";
import { type News, useNews } from "../../../api/live";

const EVERY = 8000;
const FORGET = 20_000;

export type Other = { who: string; name: string; line: string; at: number };

/** The others on the page; tells them in turn where we are. */
export function usePresence(workflow: number, me: string, line: string | null): Other[] {
  const [others, setOthers] = useState<Other[]>([]);
  const known = useRef(new Set<string>());
  const place = useRef(line);
  place.current = line;
  useNews(
    useCallback(
      (news: News) => {
        if (news.topic !== "here" || news.id !== workflow || news.who === me) return;
        // Somebody new is told at once who is here already.
        if (!news.leaving && !known.current.has(news.who)) tell(workflow, place.current, false);
        known.current[news.leaving ? "delete" : "add"](news.who);
        setOthers((before) => [
          ...before.filter((o) => o.who !== news.who),
          ...(news.leaving ? [] : [{ who: news.who, name: news.name, line: news.line, at: Date.now() }]),
        ]);
      },
      [workflow, me],
    ),
  );
  useEffect(() => {
    tell(workflow, line, false);
    const timer = window.setInterval(() => {
      tell(workflow, line, false);
      setOthers((before) => {
        const still = before.filter((o) => Date.now() - o.at < FORGET);
        return still.length === before.length ? before : still;
      });
    }, EVERY);
    return () => window.clearInterval(timer);
  }, [workflow, line]);
  useEffect(() => () => tell(workflow, null, true), [workflow]);
  return others;
}

function tell(id: number, line: string | null, leaving: boolean) {
  const body = { line: line ?? "", leaving };
  api.POST("/api/workflows/{id}/here", { params: { path: { id } }, body }).catch(() => undefined);
}
