/** Dragging a line by its number to another place of the page. */
import { type DragEvent, useState } from "react";
import type { Line } from "../../api/client";
import { linesOf, type PageDoc } from "./page";

type Goal = { line: string; below: boolean };

const BLOCKS = new Set(["for_each", "repeat_until"]);

/** Props for a line's row, and where a dragged line would go (to be drawn as a rule). */
export function useDragging(doc: PageDoc, move: (line: string, parent: string, index: number) => void) {
  const [moving, setMoving] = useState<string | null>(null);
  const [goal, setGoal] = useState<Goal | null>(null);

  function place(line: Line, below: boolean): [string, number] | null {
    if (line.kind === "lane") return below ? [line.id, 0] : null;
    if (line.id === doc.start.id) return below ? ["", 0] : null;
    if (below && BLOCKS.has(line.kind)) return [line.id, 0];
    if (below && linesOf(doc).find((l) => l.id === line.id)?.lanes?.length) return null;
    return [line.parent, line.index + (below ? 1 : 0)];
  }

  const rowProps = (line: Line, maker: boolean) =>
    maker && {
      draggable: line.kind !== "lane" && line.id !== doc.start.id,
      onDragStart: (event: DragEvent) => {
        event.dataTransfer.effectAllowed = "move";
        event.dataTransfer.setData("text/plain", line.id);
        setMoving(line.id);
      },
      onDragEnd: () => {
        setMoving(null);
        setGoal(null);
      },
      onDragOver: (event: DragEvent) => {
        if (!moving) return;
        const box = event.currentTarget.getBoundingClientRect();
        const below = event.clientY > box.top + box.height / 2;
        if (!place(line, below)) return;
        event.preventDefault();
        if (goal?.line !== line.id || goal.below !== below) setGoal({ line: line.id, below });
      },
      onDrop: (event: DragEvent) => {
        event.preventDefault();
        const found = goal && place(line, goal.below);
        if (moving && found && moving !== line.id) move(moving, ...found);
        setMoving(null);
        setGoal(null);
      },
    };
  const mark = (line: Line) =>
    goal?.line !== line.id
      ? ""
      : goal.below
        ? "shadow-[inset_0_-3px_0_var(--leaf)]"
        : "shadow-[inset_0_3px_0_var(--leaf)]";
  return { rowProps, mark };
}
