import type { Line } from "../api/client";
import { Sentence } from "../components/Sentence";
import { money } from "../components/words";

/** One line of the page: the stage in the margin (once for each run of lines), number, sentence, what is wrong. */
export function OutlineLine({
  line,
  number,
  stage,
  chosen,
  onChoose,
}: {
  line: Line;
  number: number;
  stage: string;
  chosen: boolean;
  onChoose: () => void;
}) {
  const worst = line.problems.find((p) => p.severity === "error") ?? line.problems[0];
  return (
    <div className="flex h-full gap-2">
      <span className="smallcaps w-[4.4rem] shrink-0 pt-[3px] text-right text-soft">{stage}</span>
      <button
        type="button"
        tabIndex={-1}
        onClick={onChoose}
        aria-current={chosen ? "true" : undefined}
        className="min-w-0 flex-1 self-start text-left"
        style={line.depth ? { paddingLeft: `${line.depth * 1.1}rem` } : undefined}
      >
        <span
          className={`block font-serif leading-snug ${line.kind === "lane" || line.kind === "take" ? "text-reading italic" : "text-reading"} ${line.muted ? "text-soft line-through decoration-rule" : ""}`}
        >
          {number > 0 && <span className="mr-1.5 font-sans text-xs text-soft">{number}</span>}
          <Sentence parts={line.sentence} />
        </span>
        {line.muted && <span className="text-xs text-soft">muted</span>}
        {worst && (
          <span className={`mt-0.5 block text-xs ${worst.severity === "error" ? "text-brick" : "text-ochre"}`}>
            {worst.message}
            {line.problems.length > 1 && ` (and ${line.problems.length - 1} more)`}
          </span>
        )}
        {line.cost > 0 && <span className="mt-0.5 block text-xs text-soft">{money(line.cost)} an item</span>}
      </button>
    </div>
  );
}
