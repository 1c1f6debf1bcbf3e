/** How a person wants to be told of what waits: quiet hours, one mail for many; and who decides while they are away. */
import { type FormEvent, type ReactNode, useState } from "react";
import type { Schemas } from "../api/client";
import { Button } from "./Button";
import { Choice, Field, Input } from "./Field";
import { forField } from "./words";

type Times = Schemas["Times"];
type Wants = Schemas["Wants"];
const DAYS = ["Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"];
/** The first moment of a day here, or with `end` the last. */
const moment = (day: string, end = false) =>
  day ? new Date(`${day}T${end ? "23:59:59" : "00:00:00"}`).getTime() / 1000 : null;

/** All of it: one's own, or anybody's for an owner. */
export function WantsForm({ wants, save }: { wants: Wants; save: (wants: Wants) => Promise<void> }) {
  const [now, set] = useState<Wants>(wants);
  return (
    <Kept save={() => save({ ...now, zone: here() })} of={now}>
      <When now={now} set={(more) => set({ ...now, ...more })} />
      <Between
        label="Away"
        name="Away"
        type="date"
        from={forField(now.away_from, 10)}
        until={forField(now.away_until, 10)}
        set={(from, until) => set({ ...now, away_from: moment(from), away_until: moment(until, true) })}
      />
      <Field label="Who decides meanwhile" help="Their mail address. What waits is put before them.">
        <Input
          type="email"
          value={now.substitute}
          placeholder="nobody else"
          onChange={(e) => set({ ...now, substitute: e.target.value })}
        />
      </Field>
      <Field label="In chat rooms" help="An XMPP address. Empty: the mail address.">
        <Input
          value={now.chat}
          placeholder="as the mail address"
          onChange={(e) => set({ ...now, chat: e.target.value })}
        />
      </Field>
    </Kept>
  );
}

/** Only when one is told: for whoever holds a signed link. */
export function TimesForm({ times, save }: { times: Times; save: (times: Times) => Promise<void> }) {
  const [now, set] = useState<Times>(times);
  return (
    <Kept save={() => save({ ...now, zone: here() })} of={now}>
      <When now={now} set={(more) => set({ ...now, ...more })} />
    </Kept>
  );
}

const here = () => Intl.DateTimeFormat().resolvedOptions().timeZone;

function When({ now, set }: { now: Times; set: (more: Partial<Times>) => void }) {
  const quiet = now.quiet;
  return (
    <>
      <Field label="Mails about what waits" help={now.collect.length ? "One mail tells of all that came since." : ""}>
        <Choice
          value={now.collect.length ? "collected" : "at once"}
          onChange={(e) => set({ collect: e.target.value === "collected" ? ["08:00"] : [] })}
        >
          <option value="at once">one for each, at once</option>
          <option value="collected">one for many, at times of the day</option>
        </Choice>
      </Field>
      {now.collect.length > 0 && (
        <Field group label="At">
          <div className="flex flex-wrap gap-2">
            {[...now.collect, ""].slice(0, 6).map((time, n) => (
              <Input
                key={n}
                type="time"
                aria-label={`Time ${n + 1}`}
                className="!w-28"
                value={time}
                onChange={(e) => set({ collect: now.collect.toSpliced(n, 1, e.target.value).filter(Boolean) })}
              />
            ))}
          </div>
        </Field>
      )}
      <Between
        label="Quiet, with nothing told"
        name="Quiet"
        type="time"
        from={quiet.from ?? ""}
        until={quiet.until ?? ""}
        set={(from, until) => set({ quiet: { ...quiet, from: from || null, until: until || null } })}
      >
        <div className="mt-2 flex flex-wrap gap-x-3 gap-y-1 text-sm">
          {DAYS.map((day, n) => (
            <label key={day} className="flex items-center gap-1">
              <input
                type="checkbox"
                checked={quiet.days.includes(n)}
                onChange={(e) =>
                  set({
                    quiet: {
                      ...quiet,
                      days: e.target.checked ? [...quiet.days, n].sort() : quiet.days.filter((one) => one !== n),
                    },
                  })
                }
              />
              {day}
            </label>
          ))}
        </div>
      </Between>
    </>
  );
}

/** A beginning and an end. */
function Between({
  label,
  name,
  type,
  from,
  until,
  set,
  children,
}: {
  label: string;
  name: string;
  type: "time" | "date";
  from: string;
  until: string;
  set: (from: string, until: string) => void;
  children?: ReactNode;
}) {
  const wide = type === "time" ? "!w-28" : "!w-40";
  return (
    <Field group label={label}>
      <div className="flex flex-wrap items-center gap-2 text-sm">
        from
        <Input
          type={type}
          aria-label={`${name} from`}
          className={wide}
          value={from}
          onChange={(e) => set(e.target.value, until)}
        />
        until
        <Input
          type={type}
          aria-label={`${name} until`}
          className={wide}
          value={until}
          onChange={(e) => set(from, e.target.value)}
        />
      </div>
      {children}
    </Field>
  );
}

/** A form that says that what stands in it is kept, until something in it changes. */
function Kept({ save, of, children }: { save: () => Promise<void>; of: unknown; children: ReactNode }) {
  const [busy, setBusy] = useState(false);
  const [kept, setKept] = useState<unknown>(null);
  const [wrong, setWrong] = useState("");

  async function keep(event: FormEvent) {
    event.preventDefault();
    setBusy(true);
    setWrong("");
    try {
      await save();
      setKept(of);
    } catch (error) {
      setWrong((error as Error).message);
    }
    setBusy(false);
  }

  return (
    <form className="space-y-4" onSubmit={keep}>
      {children}
      <p className="flex items-center gap-3">
        <Button type="submit" disabled={busy}>
          Keep it so
        </Button>
        <span role="status" className="text-sm text-soft">
          {kept === of ? "Kept." : ""}
        </span>
      </p>
      {wrong && (
        <p role="alert" className="text-sm text-brick">
          {wrong}
        </p>
      )}
    </form>
  );
}
