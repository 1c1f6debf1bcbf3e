import {
  Fragment,
  type ReactNode,
  type Ref,
  type RefObject,
  startTransition,
  useEffect,
  useImperativeHandle,
  useMemo,
  useState,
} from "react";
import { flushSync } from "react-dom";
import type { Bench, Cell, Line } from "../../api/client";
import type { Goal } from "./dragging";
import { Row, type RowActions } from "./Row";

type Props = {
  ref: Ref<{ show: (line: string) => void }>;
  scroller: RefObject<HTMLDivElement | null>;
  lines: Line[];
  samples: Bench["samples"];
  step: string | null;
  sample: number | null;
  cells: Map<string, Cell>;
  limit: number | null;
  maker: boolean;
  goal: Goal;
  actions: RefObject<RowActions>;
  /** The finder, where it stands open below a line. */
  finder: (line: string, depth: number) => ReactNode;
};

/** Cells from which on rows out of sight are not laid out until they come near. */
const MANY = 300;
/** Rows drawn at once, and then at a time while nothing else is to be done. */
const FIRST = 14;
const NEXT = 8;
const HOLDING = new Set(["for_each", "repeat_until", "assignment", "lane"]);

/** The page's lines with their proofs, one row for each. */
export function Rows(props: Props) {
  const { lines, samples, step, finder, goal } = props;
  const many = lines.length * samples.length > MANY;
  const told = useMemo(() => marginOf(lines), [lines]);
  const [drawn, setDrawn] = useState(many ? FIRST : Number.POSITIVE_INFINITY);
  useEffect(() => {
    if (drawn >= lines.length) return;
    const next = window.setTimeout(() => startTransition(() => setDrawn(drawn + NEXT)));
    return () => window.clearTimeout(next);
  }, [drawn, lines.length]);
  useImperativeHandle(props.ref, () => ({
    show: (line) => {
      const find = () => props.scroller.current?.querySelector(`[data-row="${line}"] > *`);
      if (!find()) flushSync(() => setDrawn(Number.POSITIVE_INFINITY));
      find()?.scrollIntoView({ block: "center" });
    },
  }));
  return lines.slice(0, drawn).map((line, i) => (
    <Fragment key={line.id}>
      {i === 0 && finder("", 0)}
      <Row
        line={line}
        {...told[i]!}
        first={i === 0}
        chosen={line.id === step}
        sample={props.sample}
        focusable={!step && i === 0}
        samples={samples}
        cells={props.cells}
        limit={props.limit}
        lines={step || line.stage === "record" ? 3 : 5}
        many={many}
        maker={props.maker}
        mark={goal?.line !== line.id ? "" : goal.below ? "below" : "above"}
        actions={props.actions}
      />
      {finder(line.id, line.depth + (HOLDING.has(line.kind) ? 1 : 0))}
    </Fragment>
  ));
}

type Margin = { stage: string; number: number; of: number; target: string };

/** What stands in the margin of each line: its stage at the first of a run of lines, its number; and what choosing it chooses. */
function marginOf(lines: Line[]): Margin[] {
  let before = "";
  let number = 0;
  return lines.map((line, i) => {
    const stage = line.stage === before || line.stage === "flow" ? "" : line.stage;
    before = line.stage && line.stage !== "flow" ? line.stage : before;
    const numbered = line.kind !== "lane" && line.kind !== "take";
    if (numbered) number += 1;
    return {
      stage,
      number: numbered ? number : 0,
      of: number,
      target: line.kind === "lane" ? forkOf(lines, i) : line.id,
    };
  });
}

/** The fork a lane belongs to: the nearest line above that stands one step further out. */
function forkOf(lines: Line[], at: number): string {
  const depth = lines[at]!.depth - 1;
  for (let i = at - 1; i >= 0; i--) if (lines[i]!.depth === depth && lines[i]!.kind === "fork") return lines[i]!.id;
  return lines[at]!.id;
}
