import { Fragment } from "react";
import type { Cell } from "../api/client";
import { PieceBrief } from "../components/pieces/PieceBrief";
import { State } from "../components/State";
import { money, when } from "../components/words";

const WOULD: Record<string, string> = {
  ask: "would ask",
  send: "would go out",
  write: "would be written",
  wait: "would wait",
  call: "would run it",
  stop: "would stop here",
};

/** Characters of which any many stand in one line of a cell, however wide they are. */
const IN_A_LINE = 14;

/** A result in brief: its words, its state by shape and word, marks for rules. To stand in a column (flex). */
export function CellBody({
  cell,
  stage,
  limit,
  lines = 4,
}: {
  cell: Cell;
  stage: string;
  limit?: number | null;
  lines?: number;
}) {
  const text = cell.state === "running" ? cell.partial : cell.brief;
  const piece = stage === "draft" || stage === "publish";
  // A page has many cells: what is sure to fit is not cut, and what says nothing takes no room.
  const cut = text.length > lines * IN_A_LINE || text.includes("\n");
  const told = cell.count > 1 ? null : toldOf(cell);
  const fresh = cell.state === "fresh";
  const shown = cell.state !== "running" ? cell.piece : null;
  const length =
    fresh && shown?.limit
      ? shown.length
      : fresh && stage === "publish" && limit && !shown
        ? [...cell.brief].length
        : null;
  const most = shown?.limit ?? limit;
  return (
    <>
      {cell.picture && (
        <img src={cell.picture} alt={text} className="mb-1 max-h-24 max-w-full self-start border border-line" />
      )}
      {shown ? (
        <div className={cell.state === "stale" ? "opacity-55" : ""}>
          <PieceBrief piece={shown} lines={lines} small />
        </div>
      ) : cell.count > 1 && cell.state !== "running" ? (
        <AtAGlance text={text} count={cell.count} lines={lines} faint={cell.state === "stale"} />
      ) : text && !(stage === "ask" && cell.would) ? (
        <div
          style={cut ? { WebkitLineClamp: lines } : undefined}
          className={`${cut ? "cut" : ""} ${piece ? "piece text-sm leading-snug" : "text-sm"} ${cell.state === "stale" ? "opacity-55" : ""}`}
        >
          {text}
        </div>
      ) : null}{" "}
      {(cell.count > 1 || told || length !== null || (fresh && (cell.findings.length > 0 || cell.revisions > 0))) && (
        <div className="mt-auto flex flex-wrap items-baseline gap-x-3 pt-1">
          {cell.count > 1 && <Counts cell={cell} />}
          {told && (
            <State tone={told.tone} mark={told.mark}>
              {told.words(cell, stage)}
            </State>
          )}
          {fresh && <Marks cell={cell} />}{" "}
          {length !== null && (
            <span className={`text-xs ${length > most! ? "text-brick" : "text-soft"}`}>
              {length} of {most}
            </span>
          )}
        </div>
      )}
    </>
  );
}

/** The beginnings of what a line inside a block gave, one for each item, and how many more there are. */
function AtAGlance({ text, count, lines, faint }: { text: string; count: number; lines: number; faint: boolean }) {
  const all = text.split("\n").filter(Boolean);
  const shown = all.slice(0, lines);
  return (
    // A cell is a button: what stands in it are words, not lists.
    <span className={`block text-sm ${faint ? "opacity-55" : ""}`}>
      {shown.map((one, i) => (
        <span key={i} className="block truncate">
          {one}{" "}
        </span>
      ))}
      {count > shown.length && shown.length > 0 && (
        <span className="block text-xs text-soft">and {count - shown.length} more</span>
      )}
    </span>
  );
}

type Told = { tone: "leaf" | "ochre" | "brick" | "soft"; mark: string; words: (cell: Cell, stage: string) => string };

const STATES: Partial<Record<Cell["state"], Told>> = {
  running: {
    tone: "leaf",
    mark: "▸",
    words: (cell, stage) => (cell.partial && stage === "draft" ? "writing …" : "working …"),
  },
  stale: { tone: "ochre", mark: "◌", words: () => "out of date" },
  failed: { tone: "brick", mark: "✕", words: (cell) => `failed: ${cell.message}` },
  muted: { tone: "soft", mark: "–", words: () => "passed over" },
  empty: { tone: "soft", mark: "·", words: () => "not run yet" },
  ahead: { tone: "soft", mark: "·", words: () => "still to come" },
  asking: { tone: "ochre", mark: "○", words: () => "waits for a person" },
  waiting: { tone: "ochre", mark: "◔", words: waits },
  stuck: { tone: "brick", mark: "?", words: (cell) => `how to go on? ${cell.message}` },
  passed: { tone: "soft", mark: "–", words: () => "did not run here" },
  unsure: { tone: "brick", mark: "?", words: (cell) => cell.message },
  declined: { tone: "soft", mark: "–", words: (cell) => `declined${cell.message && `: “${cell.message}”`}` },
};

function waits(cell: Cell): string {
  if (cell.waits === "held") return `held in the outbox${cell.message && `: ${cell.message}`}`;
  if (cell.waits === "outbox" && cell.until) return `in the outbox, goes out ${when(cell.until)}`;
  if (cell.waits === "later") return cell.until ? `waits until ${when(cell.until)}` : "waits";
  return `will try again${cell.message && `: ${cell.message}`}`;
}

function toldOf(cell: Cell): Told | null {
  const would = cell.would && (cell.piece?.form === "act" ? "would be done" : WOULD[cell.would]);
  if (cell.stops && cell.state === "fresh")
    return {
      tone: "brick",
      mark: "■",
      words: () => (cell.stops === "here" ? "would stop here" : "would not be reached"),
    };
  return STATES[cell.state] ?? (would ? { tone: "soft", mark: "▫", words: () => would } : null);
}

const COUNTED: [string, Told["tone"], string, string][] = [
  ["fresh", "leaf", "●", "done"],
  ["running", "leaf", "▸", "at work"],
  ["asking", "ochre", "○", "waiting for a person"],
  ["waiting", "ochre", "◔", "waiting"],
  ["stuck", "brick", "?", "to decide on"],
  ["unsure", "brick", "?", "in doubt"],
  ["failed", "brick", "✕", "failed"],
  ["declined", "soft", "–", "declined"],
];

/** What the carryings-out of a line inside a block came to, by number. */
function Counts({ cell }: { cell: Cell }) {
  return (
    <>
      <span className="text-xs text-soft">{cell.count} times:</span>{" "}
      {COUNTED.filter(([state]) => cell.counts[state]).map(([state, tone, mark, word]) => (
        <Fragment key={state}>
          <State tone={tone} mark={mark}>
            {cell.counts[state]} {word}
          </State>{" "}
        </Fragment>
      ))}
      {cell.state === "stale" && (
        <State tone="ochre" mark="◌">
          out of date
        </State>
      )}
    </>
  );
}

function Marks({ cell }: { cell: Cell }) {
  const broken = cell.findings.filter((f) => !f.kept);
  const must = broken.some((f) => f.strength === "must");
  return (
    <>
      {cell.findings.length > 0 &&
        (broken.length ? (
          <State tone={must ? "brick" : "ochre"} mark="✕">
            {broken.map((f) => f.says).join("; ")}
          </State>
        ) : (
          <State tone="leaf" mark="✓">
            keeps {cell.findings.length === 1 ? "its rule" : `all ${cell.findings.length} rules`}
          </State>
        ))}
      {cell.revisions > 0 && (
        <span className="text-xs text-soft">
          after {cell.revisions} revision{cell.revisions > 1 ? "s" : ""}
        </span>
      )}
    </>
  );
}

/** What it cost and when it was made, for a hand that rests on it. */
export function hover(cell: Cell): string {
  const bits = [];
  if (cell.usage.calls) {
    bits.push(
      `${cell.usage.calls} call${cell.usage.calls > 1 ? "s" : ""}, ${cell.usage.tokens_in + cell.usage.tokens_out} tokens`,
    );
    bits.push(money(cell.usage.cost), `${cell.usage.seconds.toFixed(1)} s`);
  }
  if (cell.at) bits.push(`made ${when(cell.at)}`);
  return bits.join(" · ");
}
