import { type ReactNode, useState, useSyncExternalStore } from "react";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { clock, count } from "../../components/words";
import { moveTo, type OnTime, STATE_WORDS } from "./pieces";
import { byDay, daysFrom, daysOn, midnight, onDay } from "./times";

type View = Schemas["CalendarView"];

const head = new Intl.DateTimeFormat("en-GB", { weekday: "short", day: "numeric" });
const QUARTER = 900;

/** Where a piece may still be put elsewhere. */
const MOVES = new Set(["queued", "held"]);

const WIDE = "(min-width: 768px)";

/** Whether the week has room as a table; else it is a list of days. */
function useWide(): boolean {
  return useSyncExternalStore(
    (told) => {
      const query = window.matchMedia(WIDE);
      query.addEventListener("change", told);
      return () => query.removeEventListener("change", told);
    },
    () => window.matchMedia(WIDE).matches,
  );
}

/** Channels down, days across: what starts, what waits and what went out, and the places that are free. */
export function Week({
  view,
  week,
  now,
  mayMove,
  onOpen,
}: {
  view: View;
  week: number;
  now: number;
  mayMove: boolean;
  onOpen: (piece: OnTime) => void;
}) {
  const wide = useWide();
  const days = daysFrom(week, 7);
  const today = midnight(now);
  const channels = rowsOf(view);
  const starts = byDay(view.starts);
  const answers = byDay(view.answers);
  if (!channels.length && !view.starts.length && !view.answers.length)
    return (
      <p className="mt-10 text-soft">
        Nothing starts, waits or went out in this week.{" "}
        <Link className="text-leaf underline underline-offset-2" to="/workflows">
          Put a workflow live
        </Link>
        , or give a channel a timetable under Connections, and it shows here.
      </p>
    );
  return (
    <div className="mt-4 overflow-x-auto">
      {wide && (
        <table className="w-full min-w-[900px] table-fixed border-collapse text-sm">
          <thead>
            <tr>
              <th scope="col" className="w-32 border-b border-rule pb-1 text-left text-xs font-normal text-soft">
                Channel
              </th>
              {days.map((day) => (
                <th
                  key={day}
                  scope="col"
                  aria-current={day === today ? "date" : undefined}
                  className={`border-b border-l border-rule px-2 pb-1 text-left font-normal ${day === today ? "bg-shade font-semibold" : "text-soft"}`}
                >
                  {head.format(day * 1000)}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {view.starts.length > 0 && (
              <tr>
                <th scope="row" className="border-b border-line py-2 pr-2 text-left align-top font-normal">
                  <span className="smallcaps text-soft">Starts</span>
                </th>
                {days.map((day) => (
                  <td
                    key={day}
                    className={`border-b border-l border-line px-2 py-2 align-top ${day === today ? "bg-shade" : ""}`}
                  >
                    <Starts starts={starts.get(day) ?? []} />
                  </td>
                ))}
              </tr>
            )}
            {channels.map((channel) => (
              <tr key={channel.key}>
                <th scope="row" className="border-b border-line py-2 pr-2 text-left align-top font-normal">
                  <span className="font-serif text-base leading-tight">{channel.name}</span>
                  <Room channel={channel} />
                </th>
                {days.map((day) => (
                  <Cell
                    key={day}
                    day={day}
                    today={today}
                    now={now}
                    pieces={channel.pieces.get(day) ?? []}
                    free={channel.free.get(day) ?? []}
                    aDay={channel.aDay}
                    mayMove={mayMove}
                    onOpen={onOpen}
                  />
                ))}
              </tr>
            ))}
            {view.answers.length > 0 && (
              <tr>
                <th scope="row" className="border-b border-line py-2 pr-2 text-left align-top font-normal">
                  <span className="smallcaps text-soft">Answers due</span>
                </th>
                {days.map((day) => (
                  <td
                    key={day}
                    className={`border-b border-l border-line px-2 py-2 align-top ${day === today ? "bg-shade" : ""}`}
                  >
                    <Answers answers={answers.get(day) ?? []} />
                  </td>
                ))}
              </tr>
            )}
          </tbody>
        </table>
      )}
      {!wide && (
        <ol>
          {days.map((day) => {
            const pieces = view.pieces.filter((piece) => midnight(piece.at) === day);
            const begins = starts.get(day) ?? [];
            const asked = answers.get(day) ?? [];
            if (!pieces.length && !begins.length && !asked.length && day !== today) return null;
            return (
              <li key={day} className="border-b border-rule py-3">
                <h2 className={`mb-1 text-sm ${day === today ? "font-semibold" : "text-soft"}`}>
                  {head.format(day * 1000)}
                </h2>
                <Starts starts={begins} />
                <Answers answers={asked} />
                <Folded
                  items={pieces}
                  waits={(piece) => piece.state !== "sent"}
                  draw={(piece) => (
                    <Chip key={piece.id} piece={piece} now={now} mayMove={false} onOpen={onOpen} channel />
                  )}
                />
                {!pieces.length && !begins.length && <p className="text-sm text-soft">Nothing today.</p>}
              </li>
            );
          })}
        </ol>
      )}
      {view.more && <p className="mt-2 text-sm text-soft">There is more than can be shown; choose one brand.</p>}
      {mayMove && (
        <p className="mt-3 text-xs text-soft max-md:hidden">
          Drag what waits to another day or free place, or choose it and press ← → for a day, ↑ ↓ for a quarter of an
          hour.
        </p>
      )}
    </div>
  );
}

type Row = {
  key: string;
  name: string;
  pieces: Map<number, OnTime[]>;
  free: Map<number, { at: number }[]>;
  known: boolean;
  left: number;
  taken: number;
  aDay: number | null;
};

function rowsOf(view: View): Row[] {
  const names = new Map(view.channels.map((channel) => [channel.connection, channel.name]));
  for (const piece of view.pieces) names.set(piece.connection, piece.channel);
  return [...names]
    .map(([key, name]) => {
      const channel = view.channels.find((one) => one.connection === key);
      return {
        key,
        name,
        pieces: byDay(view.pieces.filter((piece) => piece.connection === key)),
        free: byDay((channel?.free ?? []).map((at) => ({ at }))),
        known: !!channel,
        left: channel?.free.length ?? 0,
        taken: channel?.taken ?? 0,
        aDay: channel?.a_day ?? null,
      };
    })
    .sort((one, other) => one.name.localeCompare(other.name));
}

function Room({ channel }: { channel: Row }) {
  if (!channel.known) return null;
  const all = channel.left + channel.taken;
  return (
    <span className={`block text-xs ${all && !channel.left ? "text-ochre" : "text-soft"}`}>
      {all === 0 ? "no place this week" : channel.left ? `${channel.left} of ${all} places free` : "full"}
    </span>
  );
}

function Answers({ answers }: { answers: readonly Schemas["AnswerOnTime"][] }) {
  return answers.map((one) => (
    <Link
      key={one.approval}
      to={`/approvals/${one.approval}`}
      title={`${one.title}, for ${one.who}`}
      className={`block truncate text-xs ${one.late ? "text-brick" : "text-ochre"} hover:text-ink`}
    >
      {clock(one.at)} {one.late ? "✕ nobody answered: " : "◐ "}
      {one.title}
    </Link>
  ));
}

function Starts({ starts }: { starts: readonly Schemas["StartOnTime"][] }) {
  const shown = starts.slice(0, 4);
  return (
    <>
      {shown.map((start) => (
        <Link
          key={`${start.workflow}${start.at}`}
          to={`/workflows/${start.workflow}`}
          title={start.name}
          className="block truncate text-xs text-soft hover:text-ink"
        >
          {clock(start.at)} {start.name}
        </Link>
      ))}
      {starts.length > shown.length && <p className="text-xs text-soft">and {starts.length - shown.length} more</p>}
    </>
  );
}

function Cell({
  day,
  today,
  now,
  pieces,
  free,
  aDay,
  mayMove,
  onOpen,
}: {
  day: number;
  today: number;
  now: number;
  pieces: readonly OnTime[];
  free: readonly { at: number }[];
  aDay: number | null;
  mayMove: boolean;
  onOpen: (piece: OnTime) => void;
}) {
  const [over, setOver] = useState(false);
  const ends = daysOn(day, 1);
  const drop = (event: React.DragEvent) => {
    event.preventDefault();
    setOver(false);
    const place = (event.target as HTMLElement).closest<HTMLElement>("[data-free]")?.dataset.free;
    const dropped = JSON.parse(event.dataTransfer.getData("text/plain") || "{}") as { id?: number; at?: number };
    if (dropped.id && dropped.at)
      moveTo({ id: dropped.id }, place ? Number(place) : Math.max(onDay(dropped.at, day), now + 60));
  };
  const crowded = aDay !== null && pieces.length > aDay;
  const inOrder = [
    ...pieces.map((piece) => ({ at: piece.at, piece })),
    ...free.map((one) => ({ at: one.at, piece: null })),
  ].sort((one, other) => one.at - other.at);
  return (
    <td
      onDragOver={(e) => {
        if (ends > now) {
          e.preventDefault();
          setOver(true);
        }
      }}
      onDragLeave={() => setOver(false)}
      onDrop={drop}
      className={`border-b border-l border-line px-1.5 py-1.5 align-top ${over ? "bg-leafwash" : day === today ? "bg-shade" : ""}`}
    >
      <Folded
        items={inOrder}
        waits={({ piece }) => piece?.state !== "sent"}
        draw={({ at, piece }) =>
          piece ? (
            <Chip key={`p${piece.id}`} piece={piece} now={now} mayMove={mayMove} onOpen={onOpen} />
          ) : (
            <span
              key={`f${at}`}
              data-free={at}
              className="mb-1 block border border-dashed border-line px-1.5 py-0.5 text-xs text-soft"
            >
              {clock(at)} free
            </span>
          )
        }
      />
      {crowded && (
        <p className="text-xs text-ochre">
          {count(pieces.length, "piece")}, meant for {aDay}
        </p>
      )}
    </td>
  );
}

/** How many of a day's pieces are shown at first. */
const MOST = 7;

/** A day that holds many shows a few, first of all what still waits, and the rest on being asked. */
function Folded<T>({
  items,
  waits,
  draw,
}: {
  items: readonly T[];
  waits: (item: T) => boolean;
  draw: (item: T) => ReactNode;
}) {
  const [open, setOpen] = useState(false);
  const fits = open || items.length <= MOST + 1;
  const waiting = items.filter(waits).slice(0, MOST);
  const sent = items.filter((item) => !waits(item)).slice(waiting.length - MOST || items.length);
  const few = new Set<T>([...waiting, ...sent]);
  const shown = fits ? items : items.filter((item) => few.has(item));
  return (
    <>
      {shown.map(draw)}
      {!fits && (
        <button type="button" className="mb-1 text-xs text-leaf underline" onClick={() => setOpen(true)}>
          and {items.length - shown.length} more
        </button>
      )}
    </>
  );
}

const MARKS: Record<string, [string, string]> = {
  sent: ["●", "text-leaf"],
  queued: ["○", "text-ochre"],
  going: ["◐", "text-leaf"],
  held: ["‖", "text-brick"],
  unsure: ["?", "text-brick"],
  intent: ["◐", "text-ochre"],
  accepted: ["◐", "text-ochre"],
};

/** A piece as what it is: when, its opening words, its picture. */
function Chip({
  piece,
  now,
  mayMove,
  onOpen,
  channel = false,
}: {
  piece: OnTime;
  now: number;
  mayMove: boolean;
  onOpen: (piece: OnTime) => void;
  channel?: boolean;
}) {
  const [mark, tone] = MARKS[piece.state] ?? ["·", "text-soft"];
  const moves = mayMove && MOVES.has(piece.state);
  const words = piece.piece?.head || piece.piece?.text || piece.title;
  const keys: Record<string, (at: number) => number> = {
    ArrowLeft: (at) => daysOn(at, -1),
    ArrowRight: (at) => daysOn(at, 1),
    ArrowUp: (at) => at - QUARTER,
    ArrowDown: (at) => at + QUARTER,
  };
  return (
    <button
      type="button"
      draggable={moves}
      onDragStart={(e) => e.dataTransfer.setData("text/plain", JSON.stringify({ id: piece.id, at: piece.at }))}
      onKeyDown={(e) => {
        const to = moves && keys[e.key]?.(piece.at);
        if (!to) return;
        e.preventDefault();
        if (to > now) moveTo(piece, to);
      }}
      onClick={() => onOpen(piece)}
      className={`mb-1 block w-full border-l-2 bg-sheet px-1.5 py-1 text-left hover:bg-paper ${piece.state === "sent" ? "border-leaf" : piece.asks ? "border-brick" : "border-ochre"} ${moves ? "cursor-grab" : ""}`}
    >
      <span className="flex items-baseline gap-1 text-xs">
        <span aria-hidden className={tone}>
          {mark}
        </span>
        <span className="tabular-nums">{clock(piece.at)}</span>
        <span className="sr-only">{STATE_WORDS[piece.state] ?? piece.state}</span>
        <span className="truncate text-soft">
          {channel ? piece.channel : piece.piece?.form === "post" ? "" : piece.piece?.form}
        </span>
      </span>
      <span className="line-clamp-2 font-serif text-[13px] leading-snug [overflow-wrap:anywhere]">{words}</span>
    </button>
  );
}
