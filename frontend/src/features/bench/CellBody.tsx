import type { Cell } from "../../api/client";
import { State } from "../../components/State";
import { money, when } from "../../components/words";

const WOULD: Record<string, string> = {
  ask: "would ask",
  send: "would go out",
  write: "would be written",
  wait: "would wait",
  call: "would run it",
  stop: "would stop here",
};

/** A result in brief: its words, its state by shape and word, marks for rules. */
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
  const clamp = {
    display: "-webkit-box",
    WebkitBoxOrient: "vertical",
    WebkitLineClamp: lines,
    overflow: "hidden",
  } as const;
  const text = cell.state === "running" ? cell.partial : cell.brief;
  const piece = stage === "draft" || stage === "publish";
  return (
    <div title={hover(cell)} className="flex h-full flex-col">
      {cell.picture && (
        <img src={cell.picture} alt={text} className="mb-1 max-h-24 max-w-full self-start border border-line" />
      )}
      {text && !(stage === "ask" && cell.would) && (
        <div
          style={clamp}
          className={`${piece ? "piece text-[0.9rem] leading-snug" : "text-sm"} ${cell.state === "stale" ? "opacity-55" : ""}`}
        >
          {text}
        </div>
      )}
      <div className="mt-auto flex flex-wrap items-baseline gap-x-3 pt-1">
        {cell.count > 1 ? <Counts cell={cell} /> : <CellState cell={cell} />}
        {cell.state === "fresh" && <Marks cell={cell} />}
        {cell.state === "fresh" && stage === "publish" && limit ? (
          <span className={`text-xs ${[...cell.brief].length > limit ? "text-brick" : "text-soft"}`}>
            {[...cell.brief].length} of {limit}
          </span>
        ) : null}
      </div>
    </div>
  );
}

type Told = { tone: "leaf" | "ochre" | "brick" | "soft"; mark: string; words: (cell: Cell) => string };

const STATES: Partial<Record<Cell["state"], Told>> = {
  running: { tone: "leaf", mark: "▸", words: (cell) => (cell.partial ? "writing …" : "working …") },
  stale: { tone: "ochre", mark: "◌", words: () => "out of date" },
  failed: { tone: "brick", mark: "✕", words: (cell) => `failed: ${cell.message}` },
  muted: { tone: "soft", mark: "–", words: () => "passed over" },
  empty: { tone: "soft", mark: "·", words: () => "not run yet" },
  ahead: { tone: "soft", mark: "·", words: () => "still to come" },
  asking: { tone: "ochre", mark: "○", words: () => "waits for a person" },
  waiting: { tone: "ochre", mark: "◔", words: (cell) => `will try again${cell.message && `: ${cell.message}`}` },
  stuck: { tone: "brick", mark: "?", words: (cell) => `how to go on? ${cell.message}` },
  passed: { tone: "soft", mark: "–", words: () => "did not run here" },
  unsure: { tone: "brick", mark: "?", words: (cell) => cell.message },
  declined: { tone: "soft", mark: "–", words: (cell) => `declined${cell.message && `: “${cell.message}”`}` },
};

function CellState({ cell }: { cell: Cell }) {
  const told =
    STATES[cell.state] ??
    (cell.would ? ({ tone: "soft", mark: "▫", words: () => WOULD[cell.would] ?? "" } as Told) : null);
  return told ? (
    <State tone={told.tone} mark={told.mark}>
      {told.words(cell)}
    </State>
  ) : null;
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
      <span className="text-xs text-soft">{cell.count} times:</span>
      {COUNTED.filter(([state]) => cell.counts[state]).map(([state, tone, mark, word]) => (
        <State key={state} tone={tone} mark={mark}>
          {cell.counts[state]} {word}
        </State>
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

function hover(cell: Cell): string {
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
