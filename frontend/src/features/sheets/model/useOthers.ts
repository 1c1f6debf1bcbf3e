/** Who else looks at this sheet, and in which cell; told from browser to browser, kept nowhere. */
import { useCallback, useEffect, useRef, useState } from "react";
import { api } from "../../../api/client";
import { type News, useNews } from "../../../api/live";

const EVERY = 8000;
const FORGET = 20_000;
const SOON = 250;

export type Other = { who: string; name: string; row: number; column: string; at: number };
type Place = { row: number; column: string };

/** The others in the sheet; tells them in turn where we are. */
export function useOthers(key: string, me: string, place: Place): Other[] {
  const [others, setOthers] = useState<Other[]>([]);
  const known = useRef(new Set<string>());
  const here = useRef(place);
  here.current = place;
  useNews(
    useCallback(
      (news: News) => {
        if (news.topic !== "cell" || news.key !== key || news.who === me) return;
        // Somebody new is told at once who is here already.
        if (!news.leaving && !known.current.has(news.who)) tell(key, here.current);
        known.current[news.leaving ? "delete" : "add"](news.who);
        const { who, name, row, column } = news;
        setOthers((before) => [
          ...before.filter((other) => other.who !== who),
          ...(news.leaving ? [] : [{ who, name, row, column, at: Date.now() }]),
        ]);
      },
      [key, me],
    ),
  );
  useEffect(() => {
    const soon = window.setTimeout(() => tell(key, { row: place.row, column: place.column }), SOON);
    return () => window.clearTimeout(soon);
  }, [key, place.row, place.column]);
  useEffect(() => {
    const timer = window.setInterval(() => {
      tell(key, here.current);
      setOthers((before) => {
        const still = before.filter((other) => Date.now() - other.at < FORGET);
        return still.length === before.length ? before : still;
      });
    }, EVERY);
    return () => {
      window.clearInterval(timer);
      tell(key, here.current, true);
    };
  }, [key]);
  return others;
}

function tell(key: string, place: Place, leaving = false) {
  const body = { ...place, leaving };
  api.POST("/api/sheets/{key}/here", { params: { path: { key } }, body }).catch(() => undefined);
}
