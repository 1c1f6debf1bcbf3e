import type { Schemas } from "../api/client";

const MARKS: Record<string, [string, string]> = {
  fresh: ["●", "text-leaf"],
  failed: ["✕", "text-brick"],
  running: ["▸", "text-leaf"],
  asking: ["○", "text-ochre"],
  waiting: ["◔", "text-ochre"],
  stuck: ["?", "text-brick"],
  unsure: ["?", "text-brick"],
  declined: ["–", "text-soft"],
};

// Addresses in a list mostly differ at their end.
const short = (label: string) =>
  label.replace(/https?:\/\/\S+/g, (url) => url.split("/").filter(Boolean).at(-1) ?? url);

/** The carryings-out of a line inside a block, by item, to choose the one that is read. */
export function Iterations({
  list,
  chosen,
  onChoose,
  onTakeUp,
}: {
  list: Schemas["IterationView"][];
  chosen: string;
  onChoose: (address: string) => void;
  onTakeUp?: (address: string) => void;
}) {
  if (list.length < 2 && !list.some((one) => one.label)) return null;
  return (
    <ol aria-label="Carried out for" className="mb-4 max-h-48 overflow-y-auto border-y border-line">
      {list.map((one) => {
        const [mark, tone] = MARKS[one.cell.state] ?? ["·", "text-soft"];
        return (
          <li key={one.address} className="flex items-baseline gap-2 border-b border-line last:border-0">
            <button
              type="button"
              aria-current={one.address === chosen ? "true" : undefined}
              onClick={() => onChoose(one.address)}
              className={`flex min-w-0 flex-1 items-baseline gap-2 px-1 py-1 text-left text-sm hover:bg-shade ${one.address === chosen ? "bg-shade" : ""}`}
            >
              <span aria-hidden className={tone}>
                {mark}
              </span>
              <span className="min-w-0 flex-1 truncate">{short(one.label) || "once"}</span>
              <span className={`max-w-[55%] truncate text-xs ${one.cell.message ? "text-brick" : "text-soft"}`}>
                {one.cell.message || one.cell.brief}
              </span>
            </button>
            {one.can_take_up && onTakeUp && (
              <button
                type="button"
                className="shrink-0 px-2 text-xs text-leaf underline underline-offset-2"
                onClick={() => onTakeUp(one.address)}
              >
                Take up
              </button>
            )}
          </li>
        );
      })}
    </ol>
  );
}
