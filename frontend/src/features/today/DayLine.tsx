import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { clock } from "../../components/words";

type Day = Schemas["TodayView"];

const LOOK: Record<Schemas["Mark"]["what"], [string, string]> = {
  sent: ["went out", "h-3 w-3 rounded-full bg-leaf"],
  failed: ["failed", "h-3 w-3 rotate-45 bg-brick"],
  asked: ["waits", "h-3 w-3 rounded-full border-2 border-ochre bg-paper"],
  due: ["due", "h-3 w-[3px] bg-soft"],
};

/** The day from midnight to midnight, with what happened, what is due, and now. */
export function DayLine({ day }: { day: Day }) {
  const place = (at: number) => `${Math.min(100, Math.max(0, ((at - day.midnight) / 86400) * 100))}%`;
  const kinds = [...new Set(day.marks.map((m) => m.what))];
  return (
    <figure className="mt-5" aria-label="The day so far">
      <div className="relative h-14">
        <div className="absolute inset-x-0 top-7 h-px bg-rule" />
        <div className="absolute top-7 left-0 h-px bg-ink" style={{ width: place(day.now) }} />
        {[0, 3, 6, 9, 12, 15, 18, 21, 24].map((hour) => (
          <div
            key={hour}
            className="absolute top-7 -translate-x-1/2 text-center"
            style={{ left: `${(hour / 24) * 100}%` }}
          >
            <div className={`mx-auto w-px bg-rule ${hour % 6 === 0 ? "h-2.5" : "h-1.5"}`} />
            {hour % 6 === 0 && (
              <div className="mt-0.5 text-xs text-soft">{hour === 24 ? "24" : String(hour).padStart(2, "0")}</div>
            )}
          </div>
        ))}
        {day.marks.map((mark, i) => {
          const [word, shape] = LOOK[mark.what];
          const to = mark.run ? `/runs/${mark.run}` : `/workflows/${mark.workflow}`;
          return (
            <Link
              key={i}
              to={to}
              title={`${clock(mark.at)} ${word}: ${mark.label}`}
              aria-label={`${clock(mark.at)}, ${word}: ${mark.label}`}
              className="absolute top-7 -translate-x-1/2 -translate-y-1/2 p-1"
              style={{ left: place(mark.at) }}
            >
              <span className={`block ${shape}`} />
            </Link>
          );
        })}
        <div className="absolute top-0 h-7 w-px bg-leaf" style={{ left: place(day.now) }}>
          <span className="absolute -top-0.5 left-1.5 text-xs whitespace-nowrap text-leaf">now {clock(day.now)}</span>
        </div>
      </div>
      <figcaption className="mt-1 flex gap-5 text-xs text-soft">
        {kinds.map((what) => (
          <span key={what} className="inline-flex items-center gap-2">
            <span aria-hidden className={LOOK[what][1]} /> {LOOK[what][0]}
          </span>
        ))}
        {kinds.length === 0 && "Nothing has happened yet today."}
      </figcaption>
    </figure>
  );
}
