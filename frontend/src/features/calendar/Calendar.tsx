import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Link, useLocation, useSearchParams } from "react-router";
import * as reads from "../../api/reads";
import { may, useSession } from "../../app/session";
import { Button } from "../../components/Button";
import { Choice } from "../../components/Field";
import { useKeys } from "../../components/keys";
import { Failed, Loading } from "../../components/Quiet";
import { Feed } from "./Feed";
import { Outbox } from "./Outbox";
import { PieceDialog } from "./PieceDialog";
import type { OnTime } from "./pieces";
import { Strip } from "./Strip";
import { dayOf, daysOn, named, weekOf } from "./times";
import { Week } from "./Week";

const title = new Intl.DateTimeFormat("en-GB", { day: "numeric", month: "long", year: "numeric" });

/** The week an editor keeps open: what starts, waits and went out, by channel and day; or the outbox as a list. */
export function Calendar() {
  const [query, setQuery] = useSearchParams();
  const list = useLocation().pathname === "/calendar/outbox";
  const brand = query.get("brand") ?? "";
  const week = weekOf(dayOf(query.get("week")) ?? Date.now() / 1000);
  const [open, setOpen] = useState<OnTime | null>(null);
  const session = useSession().data;
  const brands = useQuery(reads.brands());
  const now = useNow();

  const set = (changed: Record<string, string>) => {
    const next = new URLSearchParams(query);
    for (const [name, value] of Object.entries(changed)) value ? next.set(name, value) : next.delete(name);
    setQuery(next, { replace: true });
  };
  const go = (day: number) => set({ week: named(weekOf(day)) });
  useKeys({
    "[": () => go(daysOn(week, -7)),
    "]": () => go(daysOn(week, 7)),
    t: () => set({ week: "" }),
  });

  return (
    <main className="mx-auto w-full max-w-[1500px] px-6 pt-5 pb-16">
      <div className="flex flex-wrap items-baseline gap-x-5 gap-y-2">
        <h1 className="font-serif text-3xl font-semibold tracking-tight">
          {list ? "Outbox" : `Week of ${title.format(week * 1000)}`}
        </h1>
        <nav aria-label="Calendar" className="flex gap-4 text-sm">
          {[
            ["/calendar", "Week"],
            ["/calendar/outbox", "Outbox as a list"],
          ].map(([to, words]) => (
            <Link
              key={to}
              to={`${to}?${query}`}
              aria-current={(to === "/calendar/outbox") === list ? "page" : undefined}
              className="border-b-2 border-transparent pb-0.5 text-soft aria-[current]:border-leaf aria-[current]:text-ink"
            >
              {words}
            </Link>
          ))}
        </nav>
        <span className="ml-auto flex flex-wrap items-center gap-2">
          {!list && (
            <>
              <Button look="quiet" hint="[" onClick={() => go(daysOn(week, -7))}>
                Earlier
              </Button>
              <Button look="quiet" hint="T" onClick={() => set({ week: "" })}>
                This week
              </Button>
              <Button look="quiet" hint="]" onClick={() => go(daysOn(week, 7))}>
                Later
              </Button>
            </>
          )}
          <Choice
            aria-label="For which brand"
            className="!w-auto"
            value={brand}
            onChange={(e) => set({ brand: e.target.value })}
          >
            <option value="">all brands</option>
            {brands.data?.map((one) => (
              <option key={one.key} value={one.key}>
                {one.name}
              </option>
            ))}
          </Choice>
          {may(session, "maker") && <Feed />}
        </span>
      </div>
      {list ? (
        <Outbox brand={brand} onOpen={setOpen} />
      ) : (
        <>
          <Strip week={week} brand={brand} now={now} onChoose={go} />
          <TheWeek week={week} brand={brand} now={now} onOpen={setOpen} mayMove={may(session, "reviewer")} />
        </>
      )}
      {open && <PieceDialog piece={open} onClose={() => setOpen(null)} />}
    </main>
  );
}

function TheWeek(props: {
  week: number;
  brand: string;
  now: number;
  mayMove: boolean;
  onOpen: (piece: OnTime) => void;
}) {
  const shown = useQuery(reads.calendar(props.week, daysOn(props.week, 7), props.brand));
  if (shown.isPending) return <Loading what="Fetching the week …" />;
  if (shown.isError) return <Failed error={shown.error} again={() => shown.refetch()} />;
  return <Week {...props} view={shown.data} />;
}

/** The moment it is, to the minute. */
function useNow() {
  const [now, setNow] = useState(Date.now() / 1000);
  useEffect(() => {
    const timer = setInterval(() => setNow(Date.now() / 1000), 30_000);
    return () => clearInterval(timer);
  }, []);
  return now;
}
