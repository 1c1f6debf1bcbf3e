import type { Line, Schemas } from "../../api/client";
import { CellBody, hover } from "../../page-view/CellBody";
import { OutlineLine } from "../../page-view/Outline";

type Run = Schemas["RunView"];

/** The page as it ran: the outline, and a column for each run. */
export function RunGrid({
  lines,
  columns,
  step,
  onPick,
}: {
  lines: Line[];
  columns: Run[];
  step: string | null;
  onPick: (line: string) => void;
}) {
  let before = "";
  let number = 0;
  return (
    <div
      role="grid"
      aria-label={columns.length > 1 ? "The page as it ran, twice" : "The page as it ran"}
      className={`grid content-start overflow-y-auto border-r border-line lg:grid-cols-subgrid ${columns.length > 1 ? "col-span-3 grid-cols-3" : "col-span-2"}`}
    >
      {columns.length > 1 && (
        <div role="row" className="contents">
          <div
            role="columnheader"
            className="sticky top-0 z-10 border-b border-rule bg-paper px-3 py-1 text-xs text-soft"
          >
            The page
          </div>
          {columns.map((run) => (
            <div
              key={run.run.id}
              role="columnheader"
              className="sticky top-0 z-10 border-b border-l border-rule bg-paper px-3 py-1 text-xs text-soft"
            >
              Run {run.run.id}, revision {run.revision}
              <span className="line-clamp-1 font-serif text-sm text-ink" title={run.run.title}>
                {run.run.title}
              </span>
            </div>
          ))}
        </div>
      )}
      {lines.map((one) => {
        const stage = one.stage === before || one.stage === "flow" ? "" : one.stage;
        before = one.stage && one.stage !== "flow" ? one.stage : before;
        if (one.kind !== "lane") number += 1;
        const shown = one.kind === "lane" ? 0 : number;
        const chosen = one.id === step;
        const pick = () => one.kind !== "lane" && onPick(one.id);
        return (
          <div key={one.id} role="row" className="contents">
            <div role="rowheader" className={`border-b border-line py-2 pr-3 pl-1 ${chosen ? "bg-shade" : ""}`}>
              <OutlineLine line={one} number={shown} stage={stage} chosen={chosen} onChoose={pick} />
            </div>
            {columns.map((run, i) => {
              const its = run.cells.find((c) => c.step === one.id);
              const there = run.lines.some((line) => line.id === one.id);
              return (
                <button
                  key={run.run.id}
                  type="button"
                  role="gridcell"
                  aria-selected={chosen}
                  tabIndex={chosen && i === 0 ? 0 : -1}
                  onClick={pick}
                  title={its && hover(its)}
                  className={`relative flex flex-col border-b border-l border-line px-3 py-2 text-left ${chosen ? "bg-sheet ring-2 ring-leaf ring-inset" : "hover:bg-sheet"}`}
                >
                  <span className="sr-only">
                    {shown ? `Line ${shown}` : "Lane"}
                    {columns.length > 1 ? `, run ${run.run.id}` : ""}:{" "}
                  </span>
                  {its?.state === "running" && <span className="running-bar absolute inset-x-0 top-0 h-[3px]" />}
                  {its ? (
                    <CellBody cell={its} stage={one.stage} lines={4} />
                  ) : one.kind === "lane" ? null : !there ? (
                    <span className="text-xs text-soft">not on its page</span>
                  ) : (
                    <span className="line-clamp-3 text-sm">{String(run.item.title ?? "")}</span>
                  )}
                </button>
              );
            })}
          </div>
        );
      })}
    </div>
  );
}

/** The lines of two revisions as one page: those of the first, with what only the second has put in where it stood. */
export function together(first: Line[], second: Line[]): Line[] {
  const out = [...first];
  const known = new Set(first.map((line) => line.id));
  second.forEach((line, i) => {
    if (known.has(line.id)) return;
    const above = second[i - 1]?.id;
    out.splice(out.findIndex((one) => one.id === above) + 1, 0, line);
    known.add(line.id);
  });
  return out;
}
