import { useQuery } from "@tanstack/react-query";
import * as reads from "../../api/reads";
import { byDay, daysFrom, daysOn, midnight, named } from "./times";

const MOST = 8;
const month = new Intl.DateTimeFormat("en-GB", { month: "short" });

/** Five weeks as a strip: how much went out and goes out each day; the week that is open is marked. */
export function Strip({
  week,
  brand,
  now,
  onChoose,
}: {
  week: number;
  brand: string;
  now: number;
  onChoose: (day: number) => void;
}) {
  const first = daysOn(week, -7);
  const found = useQuery(reads.calendarDays(first, daysOn(first, 35), brand));
  const sent = byDay((found.data?.sent ?? []).map((at) => ({ at })));
  const waits = byDay((found.data?.waits ?? []).map((at) => ({ at })));
  const today = midnight(now);
  return (
    <ol aria-label="Five weeks" className="mt-4 flex gap-px overflow-x-auto">
      {daysFrom(first, 35).map((day, n) => {
        const out = sent.get(day)?.length ?? 0;
        const due = waits.get(day)?.length ?? 0;
        const date = new Date(day * 1000);
        const inWeek = day >= week && day < daysOn(week, 7);
        const shown = n === 0 || date.getDate() === 1 ? month.format(date) : String(date.getDate());
        const scale = Math.max(MOST, out + due);
        return (
          <li key={day} className={`min-w-6 flex-1 ${n % 7 === 0 && n ? "ml-1.5" : ""}`}>
            <button
              type="button"
              onClick={() => onChoose(day)}
              aria-current={inWeek || undefined}
              aria-label={`${shown}: ${named(day)}, ${out} went out, ${due} wait`}
              title={`${out} went out, ${due} wait`}
              className={`flex w-full flex-col items-stretch border-b-2 pt-0.5 text-center text-[11px] leading-tight ${inWeek ? "border-leaf bg-shade" : "border-line hover:bg-shade"}`}
            >
              <span aria-hidden className="flex h-9 flex-col justify-end px-1">
                <span className="bg-ochre" style={{ height: `${(100 * due) / scale}%` }} />
                <span className="bg-leaf" style={{ height: `${(100 * out) / scale}%` }} />
              </span>
              <span className={day === today ? "font-bold text-ink" : "text-soft"}>{shown}</span>
            </button>
          </li>
        );
      })}
    </ol>
  );
}
