/** Dragging a line by its row to another place of the page. */
import { type DragEvent, useState } from "react";
import type { Line } from "../../../api/client";
import { linesOf, type PageDoc } from "../model/document";

export type Dragging = {
  start: (line: Line, event: DragEvent) => void;
  over: (line: Line, event: DragEvent) => void;
  drop: (line: Line, event: DragEvent) => void;
  end: () => void;
};

/** The row by which the dragged line would go, and on which side. */
export type Goal = { line: string; below: boolean } | null;

/** What a row does while lines are dragged, and how a row is marked where the dragged line would go. */
export function useDragging(doc: PageDoc, move: (line: string, parent: string, index: number) => void) {
  const [moving, setMoving] = useState<string | null>(null);
  const [goal, setGoal] = useState<Goal>(null);

  function place(line: Line, below: boolean): [string, number] | null {
    if (line.kind === "take") return null;
    if (line.kind === "lane") return below ? [line.id, 0] : null;
    if (line.id === doc.start.id) return below ? ["", 0] : null;
    if (below && line.holds === "steps") return [line.id, 0];
    if (below && linesOf(doc).find((l) => l.id === line.id)?.lanes?.length) return null;
    return [line.parent, line.index + (below ? 1 : 0)];
  }
  const end = () => {
    setMoving(null);
    setGoal(null);
  };
  const drag: Dragging = {
    end,
    start: (line, event) => {
      event.dataTransfer.effectAllowed = "move";
      event.dataTransfer.setData("text/plain", line.id);
      setMoving(line.id);
    },
    over: (line, event) => {
      if (!moving) return;
      const box = event.currentTarget.getBoundingClientRect();
      const below = event.clientY > box.top + box.height / 2;
      if (!place(line, below)) return;
      event.preventDefault();
      if (goal?.line !== line.id || goal.below !== below) setGoal({ line: line.id, below });
    },
    drop: (line, event) => {
      event.preventDefault();
      const found = goal && place(line, goal.below);
      if (moving && found && moving !== line.id) move(moving, ...found);
      end();
    },
  };
  return { drag, goal };
}
