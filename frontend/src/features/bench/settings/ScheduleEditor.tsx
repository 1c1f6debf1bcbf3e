import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Schemas } from "../../../api/client";
import { mutate } from "../../../api/mutate";
import * as reads from "../../../api/reads";
import { Button } from "../../../components/Button";
import { Area, Choice, Field, Input } from "../../../components/Field";

type Plain = Schemas["PlainView"];

const HOW: [Plain["how"], string][] = [
  ["minutes", "every so many minutes"],
  ["hours", "every so many hours"],
  ["daily", "every day"],
  ["weekly", "on days of the week"],
  ["monthly", "on a day of the month"],
  ["nth", "on the first, second … last of the month"],
];
const DAYS: [string, string][] = [
  ["MO", "Mon"],
  ["TU", "Tue"],
  ["WE", "Wed"],
  ["TH", "Thu"],
  ["FR", "Fri"],
  ["SA", "Sat"],
  ["SU", "Sun"],
];
const FIRST: Plain = {
  how: "weekly",
  every: 1,
  times: ["08:00"],
  days: ["MO", "TU", "WE", "TH", "FR"],
  day: 1,
  nth: 1,
};

/** A schedule in plain words, with its next times; or as a rule, where words cannot say it. */
export function ScheduleEditor({
  rule,
  zone,
  quiet,
  wrong,
  onChange,
}: {
  rule: string;
  zone: string;
  quiet: string;
  wrong?: string;
  onChange: (rule: string) => void;
}) {
  const [asRule, setAsRule] = useState(false);
  const [refused, setRefused] = useState("");
  const seen = useQuery(reads.schedule(rule, zone, quiet));
  const plain = seen.data?.plain ?? null;
  const words = !asRule && (plain || !rule);
  const now: Plain = plain ?? FIRST;

  async function say(part: Partial<Plain>) {
    try {
      const made = await mutate(
        api.POST("/api/schedule", { body: { rule: "", plain: { ...now, ...part }, zone, quiet, count: 5 } }),
        "nothing",
      );
      setRefused("");
      onChange(made.rule);
    } catch (error) {
      setRefused((error as Error).message);
    }
  }

  return (
    <Field group label="When" wrong={refused || wrong || (seen.isError ? seen.error.message : undefined)}>
      {words ? (
        <div className="space-y-2">
          <div className="flex flex-wrap items-center gap-2">
            <Choice
              aria-label="How often"
              className="!w-auto"
              value={now.how}
              onChange={(e) => say({ how: e.target.value as Plain["how"] })}
            >
              {HOW.map(([how, label]) => (
                <option key={how} value={how}>
                  {label}
                </option>
              ))}
            </Choice>
            {(now.how === "minutes" || now.how === "hours") && (
              <Input
                type="number"
                min={1}
                aria-label="Every"
                className="!w-20"
                defaultValue={now.every}
                key={`${now.how}${now.every}`}
                onBlur={(e) => Number(e.target.value) !== now.every && say({ every: Number(e.target.value) || 1 })}
              />
            )}
            {now.how === "monthly" && (
              <Choice
                aria-label="Day of the month"
                className="!w-auto"
                value={now.day}
                onChange={(e) => say({ day: Number(e.target.value) })}
              >
                {Array.from({ length: 31 }, (_, i) => (
                  <option key={i} value={i + 1}>
                    day {i + 1}
                  </option>
                ))}
                <option value={-1}>the last day</option>
              </Choice>
            )}
            {now.how === "nth" && (
              <Choice
                aria-label="Which one"
                className="!w-auto"
                value={now.nth}
                onChange={(e) => say({ nth: Number(e.target.value) })}
              >
                {["first", "second", "third", "fourth"].map((word, i) => (
                  <option key={word} value={i + 1}>
                    {word}
                  </option>
                ))}
                <option value={-1}>last</option>
              </Choice>
            )}
          </div>
          {(now.how === "weekly" || now.how === "nth") && (
            <div className="flex flex-wrap gap-1" role="group" aria-label="Days">
              {DAYS.map(([key, word]) => {
                const on = now.days.includes(key);
                const days = on ? now.days.filter((d) => d !== key) : [...now.days, key];
                return (
                  <button
                    key={key}
                    type="button"
                    aria-pressed={on}
                    onClick={() => say({ days })}
                    className={`rounded border px-2 py-0.5 text-sm ${on ? "border-leaf bg-leafwash" : "border-rule bg-sheet"}`}
                  >
                    {word}
                  </button>
                );
              })}
            </div>
          )}
          {now.how !== "minutes" && (
            <div className="flex flex-wrap items-center gap-2">
              <span className="text-sm text-soft">at</span>
              {now.times.map((time, i) => (
                <span key={`${time}${i}`} className="inline-flex items-center">
                  <Input
                    type="time"
                    aria-label={`Time ${i + 1}`}
                    className="!w-28"
                    defaultValue={time}
                    onBlur={(e) =>
                      e.target.value &&
                      e.target.value !== time &&
                      say({ times: now.times.map((t, j) => (j === i ? e.target.value : t)) })
                    }
                  />
                  {now.times.length > 1 && (
                    <Button
                      look="quiet"
                      className="!px-1.5"
                      aria-label={`Remove ${time}`}
                      onClick={() => say({ times: now.times.filter((_, j) => j !== i) })}
                    >
                      ✕
                    </Button>
                  )}
                </span>
              ))}
              {now.how !== "hours" && (
                <Button look="quiet" onClick={() => say({ times: [...now.times, later(now.times)] })}>
                  Another time
                </Button>
              )}
            </div>
          )}
        </div>
      ) : (
        <Area
          rows={2}
          aria-label="Rule"
          className="!font-mono !text-xs"
          value={rule}
          onChange={(e) => onChange(e.target.value)}
        />
      )}
      <div className="mt-2 flex items-baseline justify-between gap-3">
        <ul aria-label="Next times" className="text-xs text-soft">
          {seen.data?.next.map((time) => (
            <li key={time}>{told(time)}</li>
          ))}
          {seen.data && seen.data.next.length === 0 && <li className="text-brick">No time is left to come.</li>}
        </ul>
        {(words || plain) && (
          <button
            type="button"
            className="shrink-0 self-start text-xs text-soft underline underline-offset-2"
            onClick={() => setAsRule(!asRule)}
          >
            {words ? "Write it as a rule" : "Say it in words"}
          </button>
        )}
      </div>
    </Field>
  );
}

/** A time as the clock there shows it, whatever zone the browser is in. */
function told(iso: string): string {
  const [date, time] = iso.split("T") as [string, string];
  const day = new Date(`${date}T12:00:00`);
  const name = day.toLocaleDateString("en-GB", { weekday: "short", day: "numeric", month: "short", year: "numeric" });
  return `${name}, ${time.slice(0, 5)} (${time.slice(8) || "UTC"})`;
}

const later = (times: string[]) => {
  const hour = (Number(times.at(-1)?.slice(0, 2) ?? 8) + 4) % 24;
  return `${String(hour).padStart(2, "0")}:00`;
};
