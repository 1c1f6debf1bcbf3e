import { memo, type RefObject, useEffect, useRef } from "react";
import type { Bench, Cell, Line } from "../../../api/client";
import { CellBody, hover } from "../../../page-view/CellBody";
import { OutlineLine } from "../../../page-view/Outline";
import { cellKey } from "../model/cells";
import type { Dragging } from "./dragging";

type Sample = Bench["samples"][number];

export type RowActions = { choose: (line: string, sample?: number) => void; drag: Dragging };

export type RowProps = {
  line: Line;
  /** Its number on the page; 0 for lanes and takes. */
  number: number;
  /** The number of the line it belongs to, for reading aloud. */
  of: number;
  /** Its place among the rows of the grid, the head being the first. */
  index: number;
  /** The stage to say in the margin; empty within a run of lines of the same. */
  stage: string;
  first: boolean;
  last: boolean;
  /** What is chosen when the row is: the line itself, or the fork of a lane. */
  target: string;
  chosen: boolean;
  sample: number | null;
  focusable: boolean;
  samples: Sample[];
  cells: Map<string, Cell>;
  lines: number;
  maker: boolean;
  mark: "" | "above" | "below";
  actions: RefObject<RowActions>;
};

const MARKS = {
  "": "",
  above: "shadow-[inset_0_3px_0_var(--leaf)]",
  below: "shadow-[inset_0_-3px_0_var(--leaf)]",
};

/** One line of the page with its proofs. It is drawn again only when something of its own has changed. */
export const Row = memo(function Row(props: RowProps) {
  const { line, number, of, stage, first, target, chosen, samples, cells, actions } = props;
  const lane = line.kind === "lane";
  const name = lane ? "Lane" : number ? `Line ${number}` : `Take of line ${of}`;
  // The line between two rows belongs to the lower one, whose ground would else cover it; the last has one below too.
  const edge = `${first ? "" : stage ? "border-t border-t-rule" : "border-t"} ${props.last ? "border-b" : ""}`;
  const movable = props.maker && !first && !lane && line.kind !== "take";
  const here = useRef<HTMLButtonElement>(null);
  // The focus goes along with the chosen cell, unless it is at work elsewhere.
  // biome-ignore lint/correctness/useExhaustiveDependencies: also where another sample is chosen
  useEffect(() => {
    const focused = document.activeElement;
    if (chosen && (focused === document.body || focused?.closest("[role=grid]")))
      here.current?.focus({ preventScroll: true });
  }, [chosen, props.sample]);
  return (
    <div role="row" aria-rowindex={props.index} data-row={line.id} className="bench-row contain-content">
      <div
        role="rowheader"
        draggable={movable}
        onDragStart={(event) => actions.current.drag.start(line, event)}
        onDragEnd={() => actions.current.drag.end()}
        onDragOver={(event) => props.maker && actions.current.drag.over(line, event)}
        onDrop={(event) => actions.current.drag.drop(line, event)}
        className={`left-0 z-10 border-r md:sticky border-line py-2 pr-3 pl-1 ${chosen ? "bg-shade" : "bg-paper"} ${edge} ${MARKS[props.mark]}`}
      >
        <span id={`line-${line.id}`} hidden>
          {name},
        </span>
        <OutlineLine
          line={line}
          number={number}
          stage={stage}
          chosen={chosen}
          onChoose={() => actions.current.choose(target)}
        />
      </div>
      {samples.map((s, column) => {
        const cell = cells.get(cellKey(line.id, s.id));
        const chosenHere = chosen && s.id === props.sample;
        return (
          <button
            type="button"
            key={s.id}
            ref={chosenHere ? here : undefined}
            role="gridcell"
            tabIndex={chosenHere || (props.focusable && column === 0) ? 0 : -1}
            aria-selected={chosenHere}
            id={`cell-${cellKey(line.id, s.id)}`}
            aria-labelledby={`line-${line.id} sample-${s.id} cell-${cellKey(line.id, s.id)}`}
            aria-description={cell?.state ?? "the start’s item"}
            onClick={() => actions.current.choose(target, s.id)}
            title={cell && hover(cell)}
            className={`relative flex flex-col border-r border-line px-3 py-2 text-left -outline-offset-2 ${edge} ${
              chosenHere ? "bg-sheet ring-2 ring-leaf ring-inset" : chosen ? "bg-shade/60" : "hover:bg-sheet"
            } ${cell?.state === "stale" ? "stale" : ""} ${cell?.would ? "text-ink" : ""}`}
          >
            {cell?.state === "running" && <span className="running-bar absolute inset-x-0 top-0 h-[3px]" />}
            {lane ? null : cell ? (
              <CellBody cell={cell} stage={line.stage} limit={line.limit} lines={props.lines} />
            ) : (
              <span className="line-clamp-2 text-sm">{String(s.item.summary || s.item.title || "")}</span>
            )}
          </button>
        );
      })}
      {samples.length === 0 && <div role="gridcell" />}
      <div role="gridcell" className={samples.length ? `border-line ${edge}` : ""} />
    </div>
  );
}, unchanged);

/** Cells come in one map that is new with every change; a row looks at its own only. */
function unchanged(before: RowProps, after: RowProps): boolean {
  for (const name of Object.keys(after) as (keyof RowProps)[]) {
    if (name !== "cells" && name !== "sample" && before[name] !== after[name]) return false;
  }
  if (after.chosen && before.sample !== after.sample) return false;
  return after.samples.every((s) => {
    const key = cellKey(after.line.id, s.id);
    return before.cells.get(key) === after.cells.get(key);
  });
}
